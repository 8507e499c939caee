// Columns of streams over time, with one cursor for all.
class Plot {
  constructor(page, path) {
    this.page = page;
    this.paths = [path];
    this.isDifference = false;
    this.box = made("div", { class: "plot" });
    this.legend = made("div", { class: "legend" });
    this.canvas = made("canvas", { tabindex: "0", "aria-label": "plot; drag to move through time" });
    this.delta = made("button", { title: "difference of the first two trials", "aria-pressed": "false" }, "Δ");
    this.delta.hidden = page.trials.length < 2;
    const shut = made("button", { title: "take this plot away", "aria-label": "take this plot away" }, "×");
    this.box.append(this.legend, this.canvas, made("div", { class: "tools" }, this.delta, shut));
    this.delta.onclick = () => {
      this.isDifference = !this.isDifference;
      this.delta.setAttribute("aria-pressed", String(this.isDifference));
      this.load();
    };
    shut.onclick = () => page.unplot(this);
    page.scrubs(this.canvas, () => this.span());
    accepts(this.box, (path) => { this.paths.push(path); this.load(); });
    this.lines = [];
    this.load();
  }

  span() {
    return [this.page.begin, this.page.end];
  }

  // All columns, of all trials: [label, unit, colour, dash, column, trial].
  async load() {
    const lines = [];
    for (const [p, path] of this.paths.entries()) {
      const [stream, column] = path, found = [];
      for (const [k, trial] of this.page.trials.entries()) {
        const values = await trial.column(stream, column);
        if (values) found.push([k, trial, values]);
      }
      const ink = (k) => (this.paths.length > 1 ? INKS[p % INKS.length] : found.length > 1 ? INKS[k % INKS.length] : INKS[0]);
      if (this.isDifference && found.length > 1) {
        const [[, a, one], [, b, other]] = found, grid = one.times;
        const values = Float32Array.from(grid, (t) => middle(valueAt(other, t)) - middle(valueAt(one, t)));
        lines.push([`${stream} ${column}: ${b.name} − ${a.name}`, one.unit, ink(1), [], { times: grid, values, unit: one.unit }, null]);
      } else {
        for (const [k, trial, values] of found) {
          const label = `${stream} ${column}${found.length > 1 ? ` (${trial.name})` : ""}`;
          lines.push([label, values.unit, ink(k), this.paths.length > 1 && k ? [5, 3] : [], values, trial]);
        }
      }
    }
    this.lines = lines;
    this.legend.replaceChildren(...lines.map(([label, , ink]) => {
      const figure = made("b", {});
      const dot = made("i", { class: "dot" });
      dot.style.background = ink;
      return made("span", {}, dot, `${label} `, figure);
    }));
    this.bounds();
    this.page.changed = true;
  }

  bounds() {
    let low = Infinity, high = -Infinity;
    for (const [, , , , column] of this.lines) {
      for (const values of column.constant !== undefined ? [[Number(column.constant)]] : column.values ? [column.values] : [column.least, column.most]) {
        for (const v of values) {
          if (Number.isFinite(v)) { low = Math.min(low, v); high = Math.max(high, v); }
        }
      }
    }
    if (low > high) [low, high] = [0, 1];
    const room = 0.06 * (high - low) || Math.max(Math.abs(high) * 0.05, 1e-6);
    this.low = low - room;
    this.high = high + room;
  }

  draw(time) {
    const [begin, end] = this.span(), { ink, width, height } = surface(this.canvas);
    const x = (t) => EDGE + ((t - begin) / (end - begin || 1)) * (width - EDGE - 4);
    const y = (v) => height - 4 - ((v - this.low) / (this.high - this.low)) * (height - 8);
    ink.clearRect(0, 0, width, height);
    ink.font = "11px DejaVu Sans, Verdana, sans-serif";
    ink.strokeStyle = this.page.shade("--line");
    ink.fillStyle = this.page.shade("--quiet");
    ink.textAlign = "right";
    ink.textBaseline = "middle";
    for (const v of ticks(this.low, this.high, 3)) {
      ink.beginPath();
      ink.moveTo(EDGE, y(v));
      ink.lineTo(width - 4, y(v));
      ink.stroke();
      ink.fillText(told(v, 3), EDGE - 4, Math.min(height - 6, Math.max(6, y(v))));
    }
    for (const [, , colour, dash, column] of this.lines) {
      ink.strokeStyle = ink.fillStyle = colour;
      ink.setLineDash(dash);
      ink.lineWidth = 1.4;
      if (column.constant !== undefined) line(ink, [begin, end], () => Number(column.constant), x, y);
      else if (column.values) line(ink, column.times, (k) => column.values[k], x, y);
      else {
        ink.globalAlpha = 0.35;
        for (let k = 0; k < column.times.length; k++) {
          const next = column.times[k + 1] ?? end;
          ink.fillRect(x(column.times[k]), y(column.most[k]), Math.max(1, x(next) - x(column.times[k])), Math.max(1, y(column.least[k]) - y(column.most[k])));
        }
        ink.globalAlpha = 1;
        line(ink, column.times, (k) => (column.least[k] + column.most[k]) / 2, x, y);
      }
    }
    ink.setLineDash([]);
    ink.lineWidth = 1;
    ink.strokeStyle = this.page.shade("--ink");
    ink.beginPath();
    ink.moveTo(x(time), 0);
    ink.lineTo(x(time), height);
    ink.stroke();
    this.lines.forEach(([, , , , column], k) => {
      const figure = this.legend.children[k] && this.legend.children[k].querySelector("b");
      if (figure) figure.textContent = `${inWords(valueAt(column, time))} ${column.unit}`;
    });
  }
}

const EDGE = 58; // pixels left of the lines, for figures
const middle = ([a, b]) => (a + b) / 2;
const inWords = ([a, b]) => (a === b || (Number.isNaN(a) && Number.isNaN(b)) ? told(a) : `${told(a, 3)} to ${told(b, 3)}`);

function line(ink, times, value, x, y) {
  let on = false;
  ink.beginPath();
  for (let k = 0; k < times.length; k++) {
    const v = value(k);
    if (!Number.isFinite(v)) { on = false; continue; } // a gap says that there is none
    if (on) ink.lineTo(x(times[k]), y(v)); else ink.moveTo(x(times[k]), y(v));
    on = true;
  }
  ink.stroke();
}

function ticks(low, high, most) {
  const rough = (high - low) / most, size = 10 ** Math.floor(Math.log10(rough));
  const step = [1, 2, 5, 10].map((s) => s * size).find((s) => (high - low) / s <= most) || 10 * size;
  const found = [];
  for (let v = Math.ceil(low / step) * step; v <= high; v += step) found.push(v);
  return found;
}

// A canvas as large as it is shown, on screens of any density.
function surface(canvas) {
  const density = window.devicePixelRatio || 1, width = canvas.clientWidth, height = canvas.clientHeight;
  if (canvas.width !== Math.round(width * density) || canvas.height !== Math.round(height * density)) {
    canvas.width = Math.round(width * density);
    canvas.height = Math.round(height * density);
  }
  const ink = canvas.getContext("2d");
  ink.setTransform(density, 0, 0, density, 0, 0);
  return { ink, width, height };
}

// An element with attributes and what is in it; texts are texts, whatever they look like.
function made(kind, attributes = {}, ...inside) {
  const found = document.createElement(kind);
  for (const [word, value] of Object.entries(attributes)) found.setAttribute(word, value);
  found.append(...inside);
  return found;
}

// Let columns be dropped on something.
function accepts(element, take) {
  element.addEventListener("dragover", (event) => { event.preventDefault(); element.classList.add("drop"); });
  element.addEventListener("dragleave", () => element.classList.remove("drop"));
  element.addEventListener("drop", (event) => {
    event.preventDefault();
    event.stopPropagation();
    element.classList.remove("drop");
    const path = event.dataTransfer.getData("text/plain").split("\n");
    if (path.length === 2) take(path);
  });
}
