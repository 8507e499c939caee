// One trial: where its frames are at a time, what its streams say, what was seen then.
class Trial {
  constructor(about) {
    this.about = about;
    this.name = about.name;
    this.begin = about.begin;
    this.end = about.end;
    this.frames = about.frames;
    this.number = new Map(about.frames.names.map((name, k) => [name, k]));
    this.scene = about.scene;
    this.rows = new Map(); // of parts of the motion that are unpacked
    this.loading = new Set();
    this.columns = new Map();
    this.clouds = [];
    this.contacts = null;
    this.paths = new Map();
  }

  // Unpack what the first picture needs.
  async open() {
    if (this.frames.parts.length) await this.unpack(0);
    if (this.about.contacts) {
      const { times, touched, first, rows } = this.about.contacts;
      this.contacts = {
        times: await numbersAt(times), touched: await numbersAt(touched), first: await numbersAt(first), rows: await numbersAt(rows),
      };
    }
  }

  async unpack(k) {
    if (this.rows.has(k) || this.loading.has(k)) return;
    this.loading.add(k);
    const part = this.frames.parts[k], n = this.frames.moving.length;
    const [stamps, at, turns] = [await numbersAt(part.times), await numbersAt(part.at), await numbersAt(part.turn)];
    this.rows.set(k, {
      times: summed(stamps, 1).map((t) => part.from + t * 1e-5),
      at: summed(at, 3 * n).map((v) => v * this.frames.length),
      turns: wrapped(summed(turns, 4 * n)).map((v) => v * this.frames.turn),
    });
    this.loading.delete(k);
  }

  partAt(time) {
    const parts = this.frames.parts;
    let k = parts.length - 1;
    while (k > 0 && parts[k].from > time) k--;
    return k;
  }

  isReady(time) {
    return !this.frames.parts.length || this.rows.has(this.partAt(time));
  }

  // Poses of all frames in the world; those of the part before, where this one is not unpacked yet.
  poses(time) {
    const own = this.frames.still.map((row) => row && poseOf(row));
    const k = this.partAt(time), rows = this.rows.get(k);
    if (!rows) this.unpack(k);
    else if (this.frames.parts[k + 1] && time > this.frames.parts[k].to - 2) this.unpack(k + 1);
    const moving = this.frames.moving;
    if (rows) {
      const a = Math.max(0, placeBefore(rows.times, time)), b = Math.min(a + 1, rows.times.length - 1);
      const span = rows.times[b] - rows.times[a];
      const share = span > 0 ? Math.min(1, Math.max(0, (time - rows.times[a]) / span)) : 0;
      moving.forEach((frame, j) => {
        const [i, n] = [3 * (a * moving.length + j), 3 * (b * moving.length + j)];
        const [s, t] = [4 * (a * moving.length + j), 4 * (b * moving.length + j)];
        own[frame] = {
          p: [0, 1, 2].map((c) => rows.at[i + c] * (1 - share) + rows.at[n + c] * share),
          q: between(Array.from(rows.turns.slice(s, s + 4)), Array.from(rows.turns.slice(t, t + 4)), share),
        };
      });
    }
    const found = new Array(own.length);
    for (let f = 0; f < own.length; f++) { // each comes after its parent
      const parent = this.frames.parents[f], here = own[f] || { p: [0, 0, 0], q: [0, 0, 0, 1] };
      found[f] = parent >= 0 ? placed(found[parent], here) : here;
    }
    return found;
  }

  // Where a frame has been, for trails: once all is unpacked.
  async path(frame) {
    if (!this.paths.has(frame)) {
      this.paths.set(frame, null);
      const points = [];
      for (let k = 0; k < this.frames.parts.length; k++) {
        await this.unpack(k);
        const stamps = this.rows.get(k) ? this.rows.get(k).times : [];
        const every = Math.max(1, Math.floor((stamps.length * this.frames.parts.length) / 1500));
        for (let i = 0; i < stamps.length; i += every) points.push([stamps[i], this.poses(stamps[i])[frame].p]);
      }
      this.paths.set(frame, points);
    }
    return this.paths.get(frame);
  }

  stream(name) {
    return this.about.streams.find((s) => s.name === name);
  }

  // A column by its path: { times, values } or { times, least, most } or { constant }; null where there is none.
  async column(stream, name) {
    const key = `${stream}\n${name}`;
    if (!this.columns.has(key)) {
      this.columns.set(key, (async () => {
        const about = this.stream(stream), one = about && about.columns.find((c) => c.name === name);
        if (!one) return null;
        if (one.constant !== undefined) return { constant: one.constant, unit: one.unit, times: [this.begin, this.end] };
        const found = { unit: one.unit, times: await numbersAt(about.times) };
        if (one.values) found.values = await numbersAt(one.values);
        else [found.least, found.most] = [await numbersAt(one.least), await numbersAt(one.most)];
        return found;
      })());
    }
    return this.columns.get(key);
  }

  async openClouds() {
    if (this.clouds.length || !this.about.clouds.length) return;
    for (const cloud of this.about.clouds) {
      const first = [0];
      for (const n of cloud.counts) first.push(first[first.length - 1] + n);
      this.clouds.push({ ...cloud, first, points: await numbersAt(cloud.points), frame: this.number.get(cloud.stream) });
    }
  }
}

// Numbers of 16 bits that went round when they were summed.
function wrapped(values) {
  return values.map((v) => ((v + 32768) & 65535) - 32768);
}

// What a column says at a time: the last value that came, or the span it lay in.
function valueAt(column, time) {
  if (column.constant !== undefined) return [column.constant, column.constant];
  const k = placeBefore(column.times, time + 1e-6);
  if (k < 0) return [NaN, NaN];
  return column.values ? [column.values[k], column.values[k]] : [column.least[k], column.most[k]];
}
