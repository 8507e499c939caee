// The page: its parts, what keys and pointers do, and the course of time.
const $ = (id) => document.getElementById(id);
const KEYS = [
  ["space", "play or pause"], [", and .", "one message back or on"], ["← and →", "a tenth of a second back or on"],
  ["Home and End", "to the start or the end"], ["+ and −", "faster or slower"], ["drag", "turn around"],
  ["right drag, Shift drag, two fingers", "move sideways"], ["wheel, pinch, Page up and down", "nearer or farther"],
  ["W A S D", "turn around by keys"], ["f", "follow the next robot, or none"], ["1 2 3 4", "from above, front, left, behind"],
  ["0", "all of it"], ["l", "layers"], ["/", "search names"], ["c", "copy a link to this moment and view"], ["?", "these keys"],
];

class Page {
  constructor(about) {
    this.trials = about.trials.map((one) => (about.live ? new LiveTrial(one) : new Trial(one)));
    this.isLive = Boolean(about.live);
    this.begin = Math.min(...this.trials.map((t) => t.begin));
    this.end = Math.max(...this.trials.map((t) => t.end));
    this.time = this.begin;
    this.eye = new Eye();
    this.layers = Object.fromEntries(Object.entries(LAYERS).map(([word, [, on]]) => [word, on]));
    this.plots = [];
    this.picked = "";
    this.isOver = false;
    this.changed = true;
    this.speed = 1;
    this.detail = 1; // share of the screen's pixels that are drawn, each way
    this.trials.forEach((trial, k) => {
      trial.ink = INKS[k % INKS.length];
      trial.cameras = new Map();
      trial.sizes = new Map();
      trial.trailed = [];
      trial.rootOf = (name) => rootOf(trial, name);
    });
  }

  async start() {
    this.drawing = new Drawing($("scene"));
    for (const trial of this.trials) {
      await trial.open();
      await this.build(trial);
    }
    const isNear = this.whole(), [first] = this.trials;
    this.head();
    this.tree();
    this.controls();
    this.pointers();
    this.keys();
    if (isNear && first.scene.robots.length === 1 && first.trailed.includes(first.scene.robots[0].links[0])) this.follow(first.scene.robots[0].name);
    this.hash();
    window.addEventListener("hashchange", () => this.hash());
    window.addEventListener("resize", () => { this.changed = true; });
    matchMedia("(prefers-color-scheme: dark)").addEventListener("change", () => { this.shades = null; this.changed = true; });
    $("wait").hidden = this.trials.some((t) => t.frames.names.length || t.scene);
    if (!$("wait").hidden) $("wait").textContent = "Nothing to be seen: the file knows of no frames and holds no world. Its streams can be plotted.";
    const tick = (now) => { this.frame(now); requestAnimationFrame(tick); };
    requestAnimationFrame(tick);
    if (this.isLive) this.wheel = new Wheel(this);
    for (const trial of this.trials) trial.openClouds().then(() => { this.changed = true; });
  }

  shade(word) {
    this.shades ||= new Map();
    if (!this.shades.has(word)) this.shades.set(word, getComputedStyle(document.documentElement).getPropertyValue(word).trim());
    return this.shades.get(word);
  }

  // Shapes on the graphics card, and what is known of sizes, cameras and trails.
  async build(trial) {
    trial.shapes = [];
    if (!trial.scene) {
      trial.trailed = trial.frames.names.filter((_, k) => trial.frames.moving.includes(k) && trial.frames.parents[k] < 0);
      return;
    }
    const meshes = [];
    for (const { corners, triangles } of trial.scene.meshes) {
      const [c, t] = [await numbersAt(corners), await numbersAt(triangles)];
      let radius = 0;
      for (let i = 0; i < c.length; i += 3) radius = Math.max(radius, Math.hypot(c[i], c[i + 1], c[i + 2]));
      meshes.push({ corners: c, triangles: t, radius, ...this.drawing.buffered(c, t) });
    }
    for (const part of trial.scene.parts) {
      const mesh = meshes[part.mesh];
      trial.shapes.push({ ...part, mesh, pose: poseOf(part.at), moves: part.frame >= 0 });
      const owner = part.name.split("/")[0], reach = mesh.radius + Math.hypot(part.at[0], part.at[1], part.at[2]);
      for (const name of new Set([owner, part.name])) trial.sizes.set(name, Math.max(trial.sizes.get(name) || 0, part.frame >= 0 ? reach : mesh.radius));
    }
    for (const robot of trial.scene.robots) {
      if (robot.links.length) trial.trailed.push(robot.links[0]);
      for (const sensor of robot.sensors) if (sensor.view) trial.cameras.set(sensor.name, sensor.view);
    }
    trial.trailed = [...trial.trailed, ...trial.scene.bodies].filter((name) => this.isLive || trial.frames.moving.includes(trial.number.get(name)));
  }

  // Look at all of it, or (true) at the robots where the rest is far larger.
  whole() {
    const trial = this.trials[0], poses = trial.poses(this.time);
    const robots = trial.scene ? trial.scene.robots.map((r) => r.links[0]) : [];
    const spots = (test) => trial.shapes.filter(test).map((s) => {
      const pose = s.frame >= 0 ? placed(poses[s.frame], s.pose) : s.pose;
      return [pose.p, s.mesh.radius];
    });
    const bounds = (rows) => {
      const low = [Infinity, Infinity, Infinity], high = [-Infinity, -Infinity, -Infinity];
      for (const [p, r] of rows) for (let k = 0; k < 3; k++) { low[k] = Math.min(low[k], p[k] - r); high[k] = Math.max(high[k], p[k] + r); }
      return { middle: times(plus(low, high), 0.5), size: norm(minus(high, low)) };
    };
    let rows = spots(() => true);
    const own = spots((s) => robots.some((root) => root && s.name.split("/")[0] === root.split("/")[0]));
    const isNear = own.length > 0 && bounds(rows).size > 14 * bounds(own).size;
    if (isNear) {
      const near = bounds(own);
      rows = [[near.middle, 1.1 * near.size]];
    }
    if (!rows.length) rows = poses.map((pose) => [pose.p, 0.3]);
    if (!rows.length) rows = [[[0, 0, 0], 1]];
    const { middle, size } = bounds(rows);
    this.eye.follow = this.eye.through = "";
    this.eye.target = middle;
    this.eye.distance = Math.max(0.2, 1.25 * size);
    if ($("follow").options.length) $("follow").value = $("through").value = "";
    this.changed = true;
    return isNear;
  }

  head() {
    $("trials").replaceChildren(...this.trials.map((trial) => {
      const outcome = trial.about.outcome, dot = made("i", { class: "dot" });
      dot.style.background = trial.ink;
      const row = made("span", { class: "trial" }, ...(this.trials.length > 1 ? [dot] : []), made("b", {}, trial.name));
      if (outcome) {
        const word = outcome.failed ? "aborted" : outcome.passed ? "passed" : "failed";
        row.append(" ", made("span", { class: word === "passed" ? "good" : "bad" }, word), made("span", { class: "quiet" }, `: ${outcome.reason}`));
      }
      return row;
    }));
    const notes = this.trials.flatMap((trial) => trial.about.notes.map((note) => (this.trials.length > 1 ? `${trial.name}: ${note}` : note)));
    $("show-notes").hidden = !notes.length;
    $("notes").replaceChildren(made("h2", {}, "What this page leaves out"), made("p", {}, "Poses are kept to 0.5 mm and 0.03°, clouds to 1 cm, plotted figures to five digits."), made("ul", {}, ...notes.map((note) => made("li", {}, note))));
    $("keys").replaceChildren(made("h2", {}, "Keys and pointers"), made("table", {}, ...KEYS.map(([key, does]) => made("tr", {}, made("td", {}, key), made("td", { class: "quiet" }, does)))));
    $("layers").replaceChildren(made("h2", {}, "Layers"), ...Object.entries(LAYERS).map(([word, [text]]) => {
      const box = made("input", { type: "checkbox" });
      box.checked = this.layers[word];
      box.onchange = () => { this.layers[word] = box.checked; this.changed = true; };
      box.dataset.layer = word;
      return made("label", {}, box, ` ${text}`);
    }));
    for (const word of ["layers", "notes", "keys"]) {
      $(`show-${word}`).onclick = () => {
        for (const other of ["layers", "notes", "keys"]) {
          $(other).hidden = other !== word || !$(other).hidden;
          $(`show-${other}`).setAttribute("aria-expanded", String(!$(other).hidden));
        }
      };
    }
    $("arrange").hidden = this.trials.length < 2;
    $("arrange").onclick = () => this.arrange(!this.isOver);
  }

  arrange(over) {
    this.isOver = over;
    $("arrange").textContent = over ? "Side by side" : "Over each other";
    this.changed = true;
  }

  tree() {
    treeOf(this);
  }

  controls() {
    const first = this.trials[0], names = new Set(this.trials.flatMap((t) => t.about.streams.filter((s) => s.times).map((s) => s.name)));
    fill($("step"), [["", "poses"], ...[...names].map((n) => [n, n])]);
    const robots = first.scene ? [...first.scene.robots.map((r) => r.name), ...first.scene.bodies] : [];
    fill($("follow"), [["", "nothing"], ...robots.map((n) => [n, n])]);
    $("follow-label").hidden = !robots.length;
    const cameras = [...first.cameras.keys()];
    fill($("through"), [["", "no camera"], ...cameras.map((n) => [n, n])]);
    $("through-label").hidden = !cameras.length;
    $("follow").onchange = () => this.follow($("follow").value);
    $("through").onchange = () => { this.eye.through = $("through").value; this.changed = true; };
    $("speed").onchange = () => { this.speed = Number($("speed").value); };
    $("play").onclick = () => this.play(!this.isPlaying);
    $("back").onclick = () => this.message(-1);
    $("on").onclick = () => this.message(1);
    $("search").oninput = () => this.tree();
    $("link").onclick = () => this.copy();
    $("png").onclick = () => this.picture();
    const still = this.end <= this.begin && !this.isLive;
    for (const id of ["play", "back", "on", "step", "speed", "line"]) $(id).disabled = still;
    $("line").hidden = still;
    $("controls").classList.toggle("still", still);
    this.scrubs($("line"), () => [this.begin, this.end]);
    accepts($("plots"), (path) => this.plot(path));
    accepts($("line"), (path) => this.plot(path));
  }

  follow(name) {
    if (name === this.eye.follow) return;
    const trial = this.trials[0], frame = trial.number.get(rootOf(trial, name || this.eye.follow));
    if (name) { this.eye.target = [0, 0, 0.3 * (trial.sizes.get(name) || 0)]; this.eye.distance = Math.min(this.eye.distance, 7 * (trial.sizes.get(name) || 1)); }
    else if (frame !== undefined) this.eye.target = plus(this.eye.target, trial.poses(this.time)[frame].p);
    this.eye.follow = name;
    $("follow").value = name;
    this.changed = true;
  }

  go(time) {
    this.time = Math.min(this.end, Math.max(this.begin, time));
    this.changed = true;
  }

  play(on) {
    this.isPlaying = on && this.end > this.begin;
    if (this.isPlaying && this.time >= this.end - 1e-9) this.time = this.begin;
    $("play").textContent = this.isPlaying ? "Pause" : "Play";
    this.last = null;
  }

  // To the message before or after, of the stream that is chosen; of none, of the poses.
  async message(way) {
    const trial = this.trials[0], stream = $("step").value && this.trials.map((t) => t.stream($("step").value)).find(Boolean);
    let stamps;
    if (stream) stamps = await numbersAt(stream.times);
    else if (trial.frames.parts.length) {
      await trial.unpack(trial.partAt(this.time));
      stamps = trial.rows.get(trial.partAt(this.time)).times;
    } else return;
    const k = placeBefore(stamps, this.time + (way > 0 ? 2e-5 : -2e-5)) + (way > 0 ? 1 : 0);
    if (k >= 0 && k < stamps.length) this.go(stamps[k]);
  }

  // Move through time by dragging over something.
  scrubs(element, span) {
    const at = (event) => {
      const box = element.getBoundingClientRect(), [begin, end] = span();
      this.go(begin + ((event.clientX - box.left - EDGE) / (box.width - EDGE - 4)) * (end - begin));
    };
    element.addEventListener("pointerdown", (event) => { element.setPointerCapture(event.pointerId); at(event); });
    element.addEventListener("pointermove", (event) => { if (event.buttons) at(event); });
  }

  plot(path) {
    if (this.plots.some((p) => p.paths.length === 1 && p.paths[0].join() === path.join())) return;
    const plot = new Plot(this, path);
    this.plots.push(plot);
    $("plots").append(plot.box);
    this.changed = true;
  }

  unplot(plot) {
    this.plots = this.plots.filter((p) => p !== plot);
    plot.box.remove();
    this.changed = true;
  }

  pick(name) {
    this.picked = name;
    for (const one of document.querySelectorAll("#tree .name")) one.setAttribute("aria-current", String(one.dataset.name === name));
    this.changed = true;
    this.shownFor = "";
  }

  // What is known of the thing that is picked, in figures: of each trial.
  async tell() {
    const key = `${this.picked} ${this.time.toFixed(4)}`;
    if (key === this.shownFor || this.isTelling) return;
    this.isTelling = true;
    this.shownFor = key;
    const blocks = [];
    if (this.picked) blocks.push(made("h2", {}, this.picked));
    else blocks.push(made("p", { class: "quiet" }, "Click a thing in the scene or a name in the list, and its figures are here. Click a column (∿) to plot it, or drag it below the time."));
    for (const trial of this.trials) {
      const rows = this.picked ? await figuresOf(trial, this.picked, this.time) : [];
      if (this.trials.length > 1 && rows.length) blocks.push(made("h2", { class: "quiet" }, trial.name));
      if (rows.length) blocks.push(made("table", {}, ...rows.map(([label, value, unit, path]) => {
        const row = made("tr", {}, made("td", {}, label), made("td", { class: "n" }, value), made("td", { class: "u" }, unit));
        if (path) { row.dataset.path = path.join(" "); row.title = "plot it"; row.onclick = () => this.plot(path); }
        return row;
      })));
    }
    if (this.picked && blocks.length === 1) blocks.push(made("p", { class: "quiet" }, "Nothing is known of it at this time."));
    if (!this.picked) {
      for (const trial of this.trials) {
        const said = trial.about.outcome ? trial.about.outcome.expectations : [];
        if (said.length) blocks.push(made("h2", {}, this.trials.length > 1 ? `Expected of ${trial.name}` : "Expected"), made("table", {}, ...said.map((e) => made("tr", {},
          made("td", {}, e.name), made("td", { class: e.passed ? "good" : "bad" }, e.passed ? "met" : "failed"),
          made("td", { class: "u" }, typeof e.margin === "number" ? `margin ${told(e.margin, 3)} ${e.unit || ""}` : "")))));
        for (const notice of trial.about.outcome ? trial.about.outcome.notices : []) blocks.push(made("p", { class: "bad" }, notice));
      }
    }
    $("picked").replaceChildren(...blocks);
    this.isTelling = false;
  }

  async showPictures() {
    const figures = [];
    for (const trial of this.trials) {
      for (const stream of trial.about.pictures) {
        const k = placeBefore(stream.times, this.time + 1e-6);
        if (k < 0) continue;
        this.files ||= new Map();
        const key = stream.files[k].join();
        if (!this.files.has(key)) this.files.set(key, URL.createObjectURL(new Blob([await numbersAt(stream.files[k])], { type: "image/jpeg" })));
        figures.push([this.files.get(key), `${stream.stream}${this.trials.length > 1 ? ` (${trial.name})` : ""} at ${stream.times[k].toFixed(2)} s`]);
      }
    }
    const box = $("pictures");
    while (box.childElementCount > figures.length) box.lastChild.remove();
    figures.forEach(([source, text], k) => {
      if (!box.children[k]) box.append(made("figure", {}, made("img", { alt: "" }), made("figcaption", {})));
      const [img, caption] = box.children[k].children;
      if (img.src !== source) img.src = source;
      caption.textContent = img.alt = text;
    });
  }

  pointers() {
    const scene = $("scene"), down = new Map();
    let moved = 0, gap = 0;
    scene.addEventListener("contextmenu", (event) => event.preventDefault());
    scene.addEventListener("pointerdown", (event) => { scene.setPointerCapture(event.pointerId); down.set(event.pointerId, event); moved = 0; scene.focus(); });
    scene.addEventListener("pointermove", (event) => {
      const before = down.get(event.pointerId);
      if (!before) return;
      const [dx, dy] = [event.clientX - before.clientX, event.clientY - before.clientY];
      moved += Math.abs(dx) + Math.abs(dy);
      down.set(event.pointerId, event);
      if (down.size === 2) {
        const [a, b] = [...down.values()], now = Math.hypot(a.clientX - b.clientX, a.clientY - b.clientY);
        if (gap) this.eye.near(gap / now);
        gap = now;
        this.eye.shift(dx / 2, dy / 2, scene.clientHeight);
      } else if (event.buttons & 2 || event.shiftKey) this.eye.shift(dx, dy, scene.clientHeight);
      else this.eye.turn(dx, dy);
      if (moved > 4) this.eye.through = $("through").value = "";
      this.changed = true;
    });
    for (const kind of ["pointerup", "pointercancel"]) {
      scene.addEventListener(kind, (event) => {
        down.delete(event.pointerId);
        gap = 0;
        if (kind === "pointerup" && moved < 5) this.pick((this.met(event.offsetX, event.offsetY) || { name: "" }).name);
      });
    }
    scene.addEventListener("wheel", (event) => { event.preventDefault(); this.eye.near(Math.exp(event.deltaY * 0.001)); this.changed = true; }, { passive: false });
  }

  // The nearest shape under a point of the scene: its name, and the point in the axes of its frame.
  met(x, y) {
    const scene = $("scene"), panes = this.panes(scene.clientWidth, scene.clientHeight);
    const pane = panes.find(([, [l, t, w, h]]) => x >= l && x < l + w && y >= t && y < t + h);
    if (!pane) return null;
    const [some, [left, top, width, height]] = pane;
    let nearest = Infinity, found = null;
    const { at, view } = this.eye.seen(some[0], some[0].poses(this.time), width / height);
    const way = rayThrough(view, (2 * (x - left)) / width - 1, 1 - (2 * (y - top)) / height, at);
    for (const trial of some) {
      const poses = trial.poses(this.time);
      for (const shape of trial.shapes) {
        if (!this.isShown(shape)) continue;
        const pose = shape.frame >= 0 ? placed(poses[shape.frame], shape.pose) : shape.pose;
        const far = metBy(shape.mesh, pose, at, way, nearest);
        if (far >= nearest) continue;
        const base = shape.frame >= 0 ? poses[shape.frame] : { p: [0, 0, 0], q: [0, 0, 0, 1] };
        const back = [-base.q[0], -base.q[1], -base.q[2], base.q[3]];
        nearest = far;
        found = { name: shape.name, at: turned(back, minus(plus(at, times(way, far)), base.p)) };
      }
    }
    return found;
  }

  isShown(shape) {
    return shape.role === "collision" ? this.layers.collision : shape.role === "visual" || !this.layers.collision ? this.layers.shapes : true;
  }

  keys() {
    document.addEventListener("keydown", (event) => {
      if (event.target.closest && event.target.closest("input[type=search], select") || event.ctrlKey || event.metaKey || event.altKey) {
        if (event.key === "Escape") event.target.blur();
        return;
      }
      const views = { 1: [this.eye.yaw, 1.565], 2: [0, 0.05], 3: [Math.PI / 2, 0.05], 4: [Math.PI, 0.05] };
      const acts = {
        " ": () => this.play(!this.isPlaying), ",": () => this.message(-1), ".": () => this.message(1),
        ArrowLeft: () => this.go(this.time - 0.1), ArrowRight: () => this.go(this.time + 0.1),
        Home: () => this.go(this.begin), End: () => this.go(this.end),
        "+": () => this.faster(1), "-": () => this.faster(-1), 0: () => this.whole(),
        w: () => this.eye.turn(0, 12), s: () => this.eye.turn(0, -12), a: () => this.eye.turn(-12, 0), d: () => this.eye.turn(12, 0),
        PageUp: () => this.eye.near(0.85), PageDown: () => this.eye.near(1.18),
        f: () => { const all = [...$("follow").options].map((o) => o.value); this.follow(all[(all.indexOf(this.eye.follow) + 1) % all.length]); },
        l: () => $("show-layers").click(), c: () => this.copy(), "/": () => $("search").focus(), "?": () => $("show-keys").click(),
        Escape: () => { for (const word of ["layers", "notes", "keys"]) { $(word).hidden = true; $(`show-${word}`).setAttribute("aria-expanded", "false"); } },
      };
      const act = views[event.key] ? () => { [this.eye.yaw, this.eye.pitch] = views[event.key]; } : acts[event.key];
      if (!act || (event.key === " " && event.target.matches("button"))) return;
      event.preventDefault();
      act();
      this.changed = true;
    });
  }

  faster(way) {
    const all = $("speed");
    all.selectedIndex = Math.min(all.options.length - 1, Math.max(0, all.selectedIndex + way));
    this.speed = Number(all.value);
  }

  // This moment and view as the end of an address, and back.
  address() {
    const words = new URLSearchParams({ t: this.time.toFixed(3), eye: this.eye.text() });
    if (this.eye.follow) words.set("follow", this.eye.follow);
    if (this.eye.through) words.set("through", this.eye.through);
    if (this.picked) words.set("pick", this.picked);
    if (this.isOver) words.set("over", "1");
    const layers = Object.keys(LAYERS).filter((word) => this.layers[word] !== LAYERS[word][1]);
    if (layers.length) words.set("layers", layers.join(","));
    for (const plot of this.plots) for (const path of plot.paths) words.append("plot", path.join(" "));
    return words.toString();
  }

  hash() {
    const words = new URLSearchParams(location.hash.slice(1)), first = this.trials[0];
    if (words.has("follow") && first.number.has(rootOf(first, words.get("follow")))) this.follow(words.get("follow"));
    if (words.has("through") && first.cameras.has(words.get("through"))) this.eye.through = $("through").value = words.get("through");
    if (words.has("eye")) this.eye.take(words.get("eye"));
    if (Number.isFinite(Number(words.get("t") ?? NaN))) this.go(Number(words.get("t")));
    if (words.has("pick")) this.pick(words.get("pick"));
    if (words.has("over") && this.trials.length > 1) this.arrange(true);
    for (const word of (words.get("layers") || "").split(",")) {
      if (word in LAYERS) this.layers[word] = !LAYERS[word][1];
    }
    for (const box of document.querySelectorAll("#layers input")) box.checked = this.layers[box.dataset.layer];
    for (const text of words.getAll("plot")) {
      const stream = first.about.streams.filter((s) => text.startsWith(`${s.name} `)).sort((a, b) => b.name.length - a.name.length)[0];
      if (stream) this.plot([stream.name, text.slice(stream.name.length + 1)]);
    }
    this.changed = true;
  }

  async copy() {
    history.replaceState(null, "", `#${this.address()}`);
    const isCopied = await navigator.clipboard.writeText(location.href).then(() => true, () => false);
    $("link").textContent = isCopied ? "Copied" : "In the address";
    setTimeout(() => { $("link").textContent = "Link"; }, 1500);
  }

  picture() {
    const scene = $("scene"), whole = made("canvas"), over = $("over");
    [whole.width, whole.height] = [scene.width, scene.height];
    const ink = whole.getContext("2d");
    ink.drawImage(scene, 0, 0);
    ink.drawImage(over, 0, 0, over.width, over.height, 0, 0, scene.width, scene.height);
    const link = made("a", { download: `${this.trials[0].name} ${this.time.toFixed(2)} s.png` });
    link.href = whole.toDataURL("image/png");
    link.click();
  }

  // Which trials are in which rectangle [left, top, width, height].
  panes(width, height) {
    if (this.isOver || this.trials.length === 1) return [[this.trials, [0, 0, width, height]]];
    const tall = width < height, n = this.trials.length, rows = tall ? n : n > 2 ? 2 : 1, columns = Math.ceil(n / rows);
    return this.trials.map((trial, k) => [[trial], [
      Math.round(((k % columns) * width) / columns), Math.round((Math.floor(k / columns) * height) / rows), Math.floor(width / columns), Math.floor(height / rows),
    ]]);
  }

  frame(now) {
    if (this.isPlaying) {
      if (this.last !== null) {
        this.time += ((now - this.last) / 1000) * this.speed;
        if (this.time >= this.end) { this.time = this.end; this.play(false); }
      }
      this.last = now;
      this.changed = true;
    }
    if (!$("scene").clientWidth) return;
    if (!this.changed) {
      if (this.detail < 1) { this.detail = 1; this.changed = true; } // it rests: as sharp as the screen
      this.before = null;
      return;
    }
    if (this.before) { // where drawing is slow, what moves is drawn coarser
      this.pace = 0.7 * (this.pace || 30) + 0.3 * (now - this.before);
      this.detail = this.pace > 70 ? 0.55 : this.pace < 40 ? 1 : this.detail;
    }
    this.before = now;
    this.changed = this.trials.some((trial) => !trial.isReady(this.time)); // look again once it is unpacked
    this.frames = (this.frames || 0) + 1;
    this.drawScene();
    this.drawLine();
    for (const plot of this.plots) plot.draw(this.time);
    $("time").textContent = this.end > this.begin ? `${this.time.toFixed(2)} s of ${this.end.toFixed(2)} s` : "";
    if (!this.isPlaying || (this.frames & 7) === 0) { this.tell(); this.showPictures(); }
    if (!this.isPlaying && this.shownFor !== `${this.picked} ${this.time.toFixed(4)}`) this.changed = true;
  }

  drawScene() {
    const scene = $("scene"), density = (window.devicePixelRatio || 1) * this.detail;
    const [width, height] = [scene.clientWidth, scene.clientHeight];
    if (scene.width !== Math.round(width * density) || scene.height !== Math.round(height * density)) {
      [scene.width, scene.height] = [Math.round(width * density), Math.round(height * density)];
    }
    const over = surface($("over"));
    over.ink.clearRect(0, 0, width, height);
    const panes = this.panes(width, height), sky = colourOf(this.shade("--sky"));
    for (const [some, [left, top, w, h]] of panes) {
      this.drawing.begin([left, height - top - h, w, h].map((v) => Math.round(v * density)), sky);
      const eye = this.eye.seen(some[0], some[0].poses(this.time), w / h), taken = [];
      some.forEach((trial, k) => this.drawTrial(trial, k, some.length, [left, top, w, h], eye, over.ink, taken));
      if (panes.length > 1) {
        over.ink.fillStyle = some[0].ink;
        over.ink.fillRect(left, top, w, 3);
        over.ink.font = "bold 13px DejaVu Sans, Verdana, sans-serif";
        label(over.ink, some[0].name, left + 10, top + 16, this.shade("--ink"), this.shade("--sky"), "left");
      }
    }
  }

  drawTrial(trial, k, count, [left, top, width, height], { at, view, distance }, ink, taken) {
    const poses = trial.poses(this.time);
    const gap = 10 ** Math.round(Math.log10(Math.max(distance, 0.05) / 12));
    if (trial.scene && trial.scene.ground !== null && k === 0) {
      const plain = colourOf(this.shade("--floor")), look = trial.scene.groundColour;
      this.drawing.floor(trial.scene.ground, gap, view, at, look ? [...look.slice(0, 3), 1] : plain, colourOf(this.shade("--grid")));
    }
    const shapes = [], shells = [], tint = colourOf(trial.ink);
    for (const shape of trial.shapes) {
      if (!this.isShown(shape) || (k > 0 && !(shape.frame >= 0 && poses[shape.frame] && this.movesIn(trial, shape)))) continue;
      const pose = shape.frame >= 0 ? placed(poses[shape.frame], shape.pose) : shape.pose;
      let colour = shape.colour;
      if (this.layers.collision && (shape.role === "collision" || (shape.role === "both" && !this.layers.shapes))) colour = SHELL;
      if (count > 1 && this.movesIn(trial, shape)) colour = [...colour.slice(0, 3).map((v, c) => 0.45 * v + 0.55 * tint[c]), k ? 0.6 : 1];
      if (this.isPicked(shape.name)) colour = [...colour.slice(0, 3).map((v, c) => 0.5 * v + 0.5 * [1, 0.8, 0.2][c]), colour[3]];
      shapes.push([shape.mesh, matrixOf(pose), colour, pose, shape]);
      if (this.layers.collision && this.layers.shapes && shape.role === "both") shells.push([shape.mesh, matrixOf(pose), SHELL]);
    }
    if (this.layers.through) this.seeThrough(trial, poses, at, shapes);
    this.drawing.fill(shapes, view, at);
    this.drawing.fill(shells, view, at, -1);
    const size = trial.scene && trial.scene.robots.length ? 0.35 * Math.min(...trial.scene.robots.map((r) => trial.sizes.get(r.name) || 1)) : 0.06 * distance;
    const { lines, over, points, names } = layersOf(trial, poses, this.time, this.layers, size, trial.number.has(rootOf(trial, this.picked)) ? rootOf(trial, this.picked) : "");
    this.drawing.strokesOf(lines.rows, view);
    this.drawing.strokesOf(points.rows, view, "points", 3 * (window.devicePixelRatio || 1) * this.detail);
    this.drawing.strokesOf(over.rows, view, "lines", 1, true);
    for (const [p, text, style] of names.sort((a, b) => (b[2] === "bold") - (a[2] === "bold"))) {
      const spot = screenOf(view, p);
      if (!spot) continue;
      const [x, y] = [left + ((spot[0] + 1) / 2) * width, top + ((1 - spot[1]) / 2) * height];
      if (x < left || x > left + width || y < top || y > top + height) continue;
      ink.font = `${style === "bold" ? "bold 13px" : style === "small" ? "11px" : "12px"} DejaVu Sans, Verdana, sans-serif`;
      const words = count > 1 && style === "bold" ? `${text} (${trial.name})` : text, wide = ink.measureText(words).width / 2 + 3;
      if (taken.some(([a, b, w]) => Math.abs(a - x) < w + wide && Math.abs(b - y) < 13)) continue; // one over the other, none is read
      taken.push([x, y, wide]);
      label(ink, words, x, y, this.shade("--ink"), this.shade("--sky"));
    }
  }

  // Let what stands between the eye and a robot be seen through.
  seeThrough(trial, poses, at, shapes) {
    const robots = trial.scene ? trial.scene.robots.map((r) => trial.number.get(r.links[0])).filter((k) => k !== undefined) : [];
    for (const row of shapes) {
      const [mesh, , colour, pose, shape] = row;
      if (!pose || this.movesIn(trial, shape)) continue;
      const hides = robots.some((k) => {
        const way = minus(poses[k].p, at), far = norm(way);
        return metBy(mesh, pose, at, times(way, 1 / far), far) < far;
      });
      if (hides) row[2] = [...colour.slice(0, 3), 0.22];
    }
  }

  isPicked(name) {
    return this.picked && (name === this.picked || name.startsWith(`${this.picked}/`));
  }

  movesIn(trial, shape) {
    if (this.isLive) return shape.frame >= 0;
    let f = shape.frame;
    while (f >= 0) {
      if (trial.frames.still[f] === null) return true;
      f = trial.frames.parents[f];
    }
    return false;
  }

  // The course of time with its moments.
  drawLine() {
    if ($("line").hidden) return;
    const { ink, width, height } = surface($("line"));
    const x = (t) => EDGE + ((t - this.begin) / (this.end - this.begin || 1)) * (width - EDGE - 4);
    ink.clearRect(0, 0, width, height);
    ink.fillStyle = this.shade("--card");
    ink.fillRect(EDGE, 8, width - EDGE - 4, 6);
    ink.fillStyle = this.shade("--accent");
    ink.fillRect(EDGE, 8, x(this.time) - EDGE, 6);
    ink.font = "11px DejaVu Sans, Verdana, sans-serif";
    ink.textAlign = "center";
    ink.textBaseline = "top";
    ink.fillStyle = this.shade("--quiet");
    for (const t of ticks(this.begin, this.end, Math.max(2, Math.floor(width / 110)))) ink.fillText(`${told(t)} s`, Math.min(width - 18, Math.max(EDGE + 8, x(t))), 17);
    for (const trial of this.trials) {
      for (const mark of trial.about.marks) {
        ink.fillStyle = this.shade({ failed: "--bad", met: "--good", nearest: "--mark", event: "--ink" }[mark.kind]);
        const at = x(mark.time);
        ink.beginPath();
        ink.moveTo(at, 13);
        ink.lineTo(at - 4.5, 3);
        ink.lineTo(at + 4.5, 3);
        ink.fill();
      }
    }
    ink.fillStyle = this.shade("--ink");
    ink.fillRect(x(this.time) - 1, 2, 2, 16);
    const line = $("line");
    line.setAttribute("aria-valuemin", String(this.begin));
    line.setAttribute("aria-valuemax", String(this.end));
    line.setAttribute("aria-valuenow", this.time.toFixed(3));
    const near = this.trials.flatMap((t) => t.about.marks).filter((m) => Math.abs(x(m.time) - x(this.time)) < 5);
    line.title = near.map((m) => `${m.time.toFixed(2)} s ${m.text}`).join("\n");
  }
}

function rootOf(trial, name) {
  const robot = trial.scene && trial.scene.robots.find((r) => r.name === name);
  return robot ? robot.links[0] : name;
}

function fill(select, rows) {
  select.replaceChildren(...rows.map(([value, text]) => made("option", { value }, text)));
}

const page = new Page(JSON.parse($("data").textContent));
window.addEventListener("unhandledrejection", (event) => { $("wait").hidden = false; $("wait").textContent = `This page cannot be shown: ${event.reason && event.reason.message}`; });
page.start();
