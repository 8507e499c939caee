// Driving: a page that is served by a cockpit. Poses and numbers come in over a socket, wishes go out.
const REACH = { speed: 1.0, "angular speed": 1.5, angle: 3.14, length: 0.5, force: 50, torque: 10 }; // of sliders
const UNITS = { speed: "m/s", "angular speed": "rad/s", angle: "rad", length: "m", force: "N", torque: "N·m" };
const HELD = { // by key: input, and which way
  ArrowUp: ["forward", 1], ArrowDown: ["forward", -1], ArrowLeft: ["turning", 1], ArrowRight: ["turning", -1],
  q: ["sideways", 1], e: ["sideways", -1],
};
const NEWTONS = 1.5; // a pixel of a push
const MOST_ROWS = 36000; // of poses: half an hour

class LiveTrial extends Trial {
  constructor(about) {
    super(about);
    this.times_ = [];
    this.rows_ = [];
    this.first = null;
  }

  async open() {
    await super.open();
    this.first = super.poses(this.begin);
  }

  add(time, rows) {
    if (this.times_.length && time < this.times_[this.times_.length - 1]) { // set back: another trial begins
      this.times_ = [];
      this.rows_ = [];
      this.columns.clear();
      this.about.marks.length = 0;
    }
    this.times_.push(time);
    this.rows_.push(rows);
    if (this.rows_.length > MOST_ROWS) { this.times_.shift(); this.rows_.shift(); }
    this.end = time;
  }

  isReady() {
    return true;
  }

  poses(time) {
    if (!this.rows_.length) return this.first;
    const a = Math.max(0, placeBefore(this.times_, time)), b = Math.min(a + 1, this.rows_.length - 1);
    const span = this.times_[b] - this.times_[a], share = span > 0 ? Math.min(1, Math.max(0, (time - this.times_[a]) / span)) : 0;
    const [one, other] = [this.rows_[a], this.rows_[b]], found = [];
    for (let k = 0; k < one.length; k += 7) {
      found.push({
        p: [0, 1, 2].map((c) => one[k + c] * (1 - share) + other[k + c] * share),
        q: between(Array.from(one.slice(k + 3, k + 7)), Array.from(other.slice(k + 3, k + 7)), share),
      });
    }
    return found;
  }

  async path(frame) {
    this.paths.set(frame, this.times_.map((t, k) => [t, Array.from(this.rows_[k].slice(7 * frame, 7 * frame + 3))]));
    return this.paths.get(frame);
  }

  async column(stream, name) {
    const key = `${stream}\n${name}`, about = this.stream(stream), one = about && about.columns.find((c) => c.name === name);
    if (!this.columns.has(key)) this.columns.set(key, { times: [], values: [], unit: one ? one.unit : "" });
    return this.columns.get(key);
  }

  takeValues(stream, found) {
    const about = this.stream(stream);
    if (!about) return false;
    const isNew = !about.columns.length;
    if (isNew) about.columns = found.names.map((name, k) => ({ name, unit: found.units[k] }));
    found.names.forEach((name, k) => {
      const key = `${stream}\n${name}`;
      if (!this.columns.has(key)) this.columns.set(key, { times: [], values: [] });
      const column = this.columns.get(key);
      column.unit = found.units[k];
      if (column.times.length && found.time <= column.times[column.times.length - 1]) return;
      column.times.push(found.time);
      column.values.push(found.values[k] ?? NaN);
    });
    return isNew;
  }
}

class Wheel {
  constructor(page) {
    this.page = page;
    this.trial = page.trials[0];
    this.inputs = {};
    this.sent = "";
    this.held = new Set(); // keys
    this.bent = new Set(); // inputs that a gamepad's axis moves
    this.box = made("div", { id: "drive" });
    $("right").prepend(this.box);
    document.body.classList.add("live");
    this.build();
    this.connect();
    this.pushes();
    setInterval(() => this.alive(), 100);
    window.addEventListener("blur", () => this.release());
    document.addEventListener("keydown", (event) => this.key(event, true), true);
    document.addEventListener("keyup", (event) => this.key(event, false), true);
  }

  build() {
    this.status = made("p", { id: "status", role: "status" }, "Connecting …");
    const button = (id, text, act, title = "") => { const found = made("button", { id, title }, text); found.onclick = act; return found; };
    this.pauseButton = button("pause", "Pause", () => this.say({ kind: "pause", on: this.pauseButton.textContent === "Pause" }));
    this.pushButton = button("push", "Push", () => this.pushing(!this.isPushing), "then drag from a thing: as hard as the drag is long");
    this.pushButton.setAttribute("aria-pressed", "false");
    const mark = made("input", { id: "mark-text", placeholder: "mark this moment", "aria-label": "text of a mark", size: "14" });
    const keep = () => { if (mark.value.trim()) this.say({ kind: "mark", text: mark.value.trim() }); mark.value = ""; };
    mark.addEventListener("keydown", (event) => { if (event.key === "Enter") keep(); });
    const weather = ["rain", "visibility", "wind_x", "wind_y"].map((word) => made("input", { placeholder: { rain: "rain: 8 mm/h", visibility: "visibility: 50 m", wind_x: "wind x: 4 m/s", wind_y: "wind y: 2 m/s" }[word], "aria-label": word, "data-word": word, size: "13" }));
    const sky = made("details", {}, made("summary", {}, "Weather, posture"), ...weather,
      button("weather", "Turn the weather", () => {
        const words = Object.fromEntries(weather.filter((one) => one.value.trim()).map((one) => [one.dataset.word, one.value.trim()]));
        if (Object.keys(words).length) this.say({ kind: "weather", words });
      }), button("posture", "Keep this posture", () => this.say({ kind: "posture", name: `posture ${(this.kept = (this.kept || 0) + 1)}` })));
    this.sliders = made("div", { id: "inputs" });
    this.box.append(this.status, made("p", { class: "tools" }, this.pauseButton,
      button("again", "Again", () => this.say({ kind: "again" }), "end this trial and begin another"), this.pushButton,
      button("end", "End", () => this.say({ kind: "end" }), "end the drive; all that was recorded is kept")),
    this.sliders, made("p", {}, mark, button("mark", "Mark", keep)), sky, this.failing = made("p", { id: "failing" }));
    this.problem = made("p", { class: "bad", role: "alert" });
    this.box.append(this.problem);
    $("speed").onchange = () => this.say({ kind: "speed", value: Number($("speed").value) });
    for (const id of ["play", "back", "on", "step", "speed", "line"]) { $(id).disabled = false; $(id).hidden = false; }
    for (const id of ["back", "on"]) $(id).hidden = true;
    $("step").parentElement.hidden = true;
    $("play").textContent = "Newest";
    $("play").title = "follow the newest (space)";
    this.page.play = () => { this.isNewest = true; };
    this.isNewest = true;
    const go = this.page.go.bind(this.page);
    this.page.go = (time) => { this.isNewest = time >= this.page.end - 0.05; go(time); };
  }

  connect() {
    const socket = this.socket = new WebSocket(`${location.href.split("#")[0].replace(/^http/, "ws")}socket`);
    socket.binaryType = "arraybuffer";
    socket.onmessage = ({ data }) => (typeof data === "string" ? this.hear(JSON.parse(data)) : this.see(data));
    socket.onclose = () => {
      this.status.textContent = "Connection lost: the robot is stopped. Load the page anew once the trial runs again.";
      this.status.className = "bad";
    };
  }

  say(word) {
    if (this.socket.readyState === 1) this.socket.send(JSON.stringify(word));
  }

  see(data) {
    const time = new Float64Array(data, 0, 1)[0];
    this.trial.add(time, new Float32Array(data.slice(8)));
    this.page.end = Math.max(time, 0.05);
    if (this.isNewest) this.page.time = time;
    if ((this.seen = (this.seen || 0) + 1) % 10 === 0) {
      for (const name of this.trial.trailed) this.trial.path(this.trial.number.get(name));
      for (const plot of this.page.plots) plot.bounds();
    }
    this.page.changed = true;
  }

  hear(word) {
    if (word.problem) { this.problem.textContent = word.problem; return; }
    this.status.className = word.drives ? "good" : "quiet";
    this.status.textContent = word.drives ? (word.paused ? "You drive; paused." : "You drive. Arrow keys, a gamepad or the sliders.") : word.is_driven ? "You watch: another browser drives." : "Nobody drives: the robot is stopped. Load the page anew to drive.";
    this.pauseButton.textContent = word.paused ? "Go on" : "Pause";
    this.drives = word.drives;
    if (JSON.stringify(word.kinds) !== this.kindsText) { this.kindsText = JSON.stringify(word.kinds); this.slidersOf(word.kinds, word.inputs); }
    if (word.stops !== (this.stops ?? word.stops)) { // nothing was heard for a while: what was told holds no longer
      this.inputs = { ...word.inputs };
      this.sent = JSON.stringify(this.inputs);
      this.held.clear();
      for (const [name, value] of Object.entries(word.inputs)) this.show(name, value);
    }
    this.stops = word.stops;
    if (!word.drives) for (const [name, value] of Object.entries(word.inputs)) this.show(name, value);
    let isNew = false;
    for (const name of word.streams) {
      if (!this.trial.stream(name)) { this.trial.about.streams.push({ name, message: "", count: 0, columns: [], times: true }); isNew = true; }
    }
    for (const [name, found] of Object.entries(word.values)) isNew = this.trial.takeValues(name, found) || isNew;
    for (const [time, text] of word.marks) { this.trial.about.marks.push({ time, kind: "event", text }); isNew = true; }
    if (word.problems.length) this.problem.textContent = word.problems[word.problems.length - 1];
    if (isNew) this.page.tree();
    if (word.streams.length && !this.hasStreams) { // what an address wants plotted can be plotted now
      this.hasStreams = true;
      this.page.hash();
    }
    this.wants();
    this.page.shownFor = "";
  }

  // Which streams are told of: those that are plotted, and those of what is picked.
  wants() {
    const picked = this.page.picked, robot = picked.split("/")[0];
    const names = new Set(this.page.plots.flatMap((p) => p.paths.map(([stream]) => stream)));
    for (const { name } of this.trial.about.streams) {
      if (picked && (name === picked || name.startsWith(`${picked}/`) || name === `${robot}/joint_states`)) names.add(name);
    }
    for (const name of this.page.opened) if (this.trial.stream(name)) names.add(name);
    const text = [...names].sort().join("\n");
    if (text !== this.wanted) { this.wanted = text; this.say({ kind: "wants", streams: [...names] }); }
    const sensor = this.trial.scene && this.trial.scene.robots.flatMap((r) => r.sensors).find((s) => s.name === picked);
    if ((this.failingFor || "") !== (sensor ? picked : "")) {
      this.failingFor = sensor ? picked : "";
      this.failing.replaceChildren(...(sensor ? [`let ${picked} fail: `, ...["stuck", "dead"].map((type) => {
        const one = made("button", {}, type);
        one.onclick = () => this.say({ kind: "fail", stream: picked, type });
        return one;
      })] : []));
    }
  }

  slidersOf(kinds, values) {
    this.kinds = kinds;
    this.inputs = { ...values };
    const limits = new Map((this.trial.scene ? this.trial.scene.robots : []).flatMap((r) => r.joints.map((j) => [j.name, j.limits])));
    this.sliders.replaceChildren(...Object.entries(kinds).map(([name, kind]) => {
      const isMotion = !["angle", "length"].includes(kind), [low, high] = (!isMotion && limits.get(name)) || [-REACH[kind], REACH[kind]];
      const slider = made("input", { type: "range", min: String(low), max: String(high), step: String((high - low) / 200), "data-input": name, "aria-label": `${name}, ${UNITS[kind]}` });
      slider.value = String(values[name] || 0);
      const figure = made("output", {}), zero = made("button", { title: `${name} to 0`, "aria-label": `${name} to 0` }, "0");
      slider.oninput = () => this.put(name, Number(slider.value));
      zero.onclick = () => { slider.value = "0"; this.put(name, 0); };
      return made("label", { class: "input" }, made("span", {}, `${name} (${UNITS[kind]})`), slider, figure, zero);
    }));
    for (const [name, value] of Object.entries(values)) this.show(name, value);
  }

  show(name, value) {
    const slider = this.sliders.querySelector(`input[data-input="${CSS.escape(name)}"]`);
    if (!slider) return;
    if (document.activeElement !== slider || !this.drives) slider.value = String(value);
    slider.nextSibling.textContent = told(value, 3);
  }

  put(name, value) {
    if (!this.kinds || !(name in this.kinds)) return;
    this.inputs[name] = Number(value.toFixed(4));
    this.show(name, this.inputs[name]);
    this.tell();
  }

  tell() {
    const text = JSON.stringify(this.inputs);
    if (this.drives && text !== this.sent) { this.sent = text; this.say({ kind: "tell", inputs: this.inputs }); }
  }

  key(event, isDown) {
    // Whoever types is not driving; but a key that is let go is let go, wherever the typing has gone.
    if (isDown && event.target.closest && event.target.closest("input:not([type=range]), select")) return;
    if (!isDown && !this.held.has(event.key)) return;
    if (!(event.key in HELD) || event.ctrlKey || event.metaKey) return;
    const [name] = HELD[event.key];
    if (!this.kinds || !(name in this.kinds)) return;
    event.preventDefault();
    event.stopPropagation();
    if (isDown) this.held.add(event.key); else this.held.delete(event.key);
    const ways = [...this.held].filter((key) => HELD[key][0] === name).reduce((sum, key) => sum + HELD[key][1], 0);
    this.put(name, 0.6 * ways * REACH[this.kinds[name]]);
  }

  release() {
    for (const key of this.held) this.put(HELD[key][0], 0);
    this.held.clear();
  }

  // Ten times a second: that somebody is there, and what a gamepad says.
  alive() {
    this.say({ kind: "alive" });
    const pad = (navigator.getGamepads ? [...navigator.getGamepads()] : []).find(Boolean);
    if (!pad || !this.kinds) return;
    for (const [axis, name] of [[1, "forward"], [0, "turning"], [2, "sideways"]]) {
      if (!(name in this.kinds)) continue;
      const bent = -(pad.axes[axis] || 0), value = Math.abs(bent) < 0.12 ? 0 : bent * REACH[this.kinds[name]];
      if (value || this.bent.has(name)) this.put(name, value); // an axis at rest leaves to others what it moves
      if (value) this.bent.add(name); else this.bent.delete(name);
    }
  }

  pushing(on) {
    this.isPushing = on;
    this.pushButton.setAttribute("aria-pressed", String(on));
    $("scene").style.cursor = on ? "crosshair" : "";
  }

  // Drag from a thing: a push along the picture, at the point that was met.
  pushes() {
    const scene = $("scene"), ink = made("span", { class: "quiet" });
    let from = null;
    scene.addEventListener("pointerdown", (event) => {
      if (!this.isPushing) return;
      const found = this.page.met(event.offsetX, event.offsetY);
      event.stopImmediatePropagation();
      if (found) { from = { ...found, x: event.clientX, y: event.clientY }; scene.setPointerCapture(event.pointerId); this.status.after(ink); }
    }, true);
    scene.addEventListener("pointermove", (event) => {
      if (!from) return;
      event.stopImmediatePropagation();
      ink.textContent = `push ${from.name}: ${told(Math.hypot(event.clientX - from.x, event.clientY - from.y) * NEWTONS, 3)} N`;
    }, true);
    scene.addEventListener("pointerup", (event) => {
      if (!this.isPushing) return;
      event.stopImmediatePropagation();
      if (from) {
        const [dx, dy] = [event.clientX - from.x, event.clientY - from.y], forward = this.page.eye.forward();
        const side = unit(cross(forward, [0, 0, 1])), up = cross(side, forward);
        const force = plus(times(side, dx * NEWTONS), times(up, -dy * NEWTONS));
        if (norm(force) > 1) this.say({ kind: "push", link: from.name, force, at: from.at });
      }
      from = null;
      ink.remove();
      this.pushing(false);
    }, true);
  }
}
