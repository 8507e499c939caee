// Numbers of the page: parts of deflated bytes, unpacked when something in them is first needed.
const KINDS = { f4: Float32Array, i4: Int32Array, u4: Uint32Array, u2: Uint16Array, i2: Int16Array, u1: Uint8Array };
const unpacked = new Map();

async function partOf(k) {
  if (!unpacked.has(k)) {
    unpacked.set(k, (async () => {
      const text = atob(document.getElementById(`part${k}`).textContent);
      const bytes = Uint8Array.from(text, (c) => c.charCodeAt(0));
      const stream = new Blob([bytes]).stream().pipeThrough(new DecompressionStream("deflate"));
      return new Response(stream).arrayBuffer();
    })());
  }
  return unpacked.get(k);
}

async function numbersAt([part, offset, count, kind]) {
  return new KINDS[kind](await partOf(part), offset, count);
}

// Rows of differences to the row before, as the rows themselves.
function summed(values, width) {
  const found = Float64Array.from(values);
  for (let k = width; k < found.length; k++) found[k] += found[k - width];
  return found;
}

// The last place whose value is not above x; -1 where there is none.
function placeBefore(values, x) {
  let low = 0, high = values.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if (values[middle] <= x) low = middle + 1; else high = middle;
  }
  return low - 1;
}

// A number with few digits, for people.
function told(x, digits = 4) {
  if (typeof x === "string") return x;
  if (x === null || x === undefined || Number.isNaN(x)) return "–";
  if (!Number.isFinite(x)) return x > 0 ? "∞" : "−∞";
  if (Math.abs(x) < 1e-12) return "0";
  const size = Math.abs(x);
  const text = size >= 1e6 || size < 1e-4 ? x.toExponential(2) : Number(x.toPrecision(digits)).toString();
  return text.replace("-", "−");
}
