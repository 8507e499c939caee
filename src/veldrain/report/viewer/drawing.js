// What is drawn with WebGL 2: shapes with light, lines and points.
const SHAPES = `#version 300 es
in vec3 corner; uniform mat4 view, place; out vec3 there;
void main() { vec4 w = place * vec4(corner, 1.0); there = w.xyz; gl_Position = view * w; }`;
const LIGHT = `#version 300 es
precision highp float; in vec3 there; uniform vec4 colour; uniform vec3 eye; out vec4 pixel;
void main() {
  vec3 n = normalize(cross(dFdx(there), dFdy(there)));
  if (dot(n, eye - there) < 0.0) n = -n;
  float sun = max(0.0, dot(n, normalize(vec3(0.35, 0.5, 0.9)))), sky = 0.5 + 0.5 * n.z;
  pixel = vec4(colour.rgb * (0.46 + 0.24 * sky + 0.42 * sun), colour.a);
}`;
const GROUND = `#version 300 es
precision highp float; in vec3 there; uniform vec4 colour; uniform vec3 eye; uniform float gap; uniform vec4 edge; out vec4 pixel;
float line(float g) {
  vec2 c = there.xy / g, w = fwidth(c), a = abs(fract(c - 0.5) - 0.5) / max(w, vec2(1e-6));
  return (1.0 - min(min(a.x, a.y), 1.0)) * clamp(1.5 - 4.0 * max(w.x, w.y), 0.0, 1.0);
}
void main() {
  float far = clamp(length(there.xy - eye.xy) / (60.0 * gap + 20.0 * abs(eye.z - there.z)), 0.0, 1.0);
  vec3 c = mix(colour.rgb, edge.rgb, 0.5 * line(gap) + 0.5 * line(5.0 * gap));
  pixel = vec4(c, colour.a * (1.0 - far * far));
}`;
const STROKES = `#version 300 es
in vec3 corner; in vec4 paint; uniform mat4 view; uniform float size; out vec4 ink;
void main() { gl_Position = view * vec4(corner, 1.0); gl_PointSize = size; ink = paint; }`;
const INKED = `#version 300 es
precision mediump float; in vec4 ink; out vec4 pixel; void main() { pixel = ink; }`;

// True where no graphics card draws: smooth edges would take half of the time.
function isSoftware() {
  const gl = document.createElement("canvas").getContext("webgl2");
  const about = gl && gl.getExtension("WEBGL_debug_renderer_info");
  return !about || /swiftshader|llvmpipe|software/i.test(gl.getParameter(about.UNMASKED_RENDERER_WEBGL));
}

class Drawing {
  constructor(canvas) {
    this.canvas = canvas;
    const gl = this.gl = canvas.getContext("webgl2", { antialias: !isSoftware(), preserveDrawingBuffer: true });
    if (!gl) throw new Error("this browser has no WebGL 2");
    this.shapes = this.program(SHAPES, LIGHT);
    this.ground = this.program(SHAPES, GROUND);
    this.strokes = this.program(STROKES, INKED);
    this.plane = this.buffered(new Float32Array([-1, -1, 0, 1, -1, 0, 1, 1, 0, -1, 1, 0]), new Uint32Array([0, 1, 2, 0, 2, 3]));
    this.lines = gl.createBuffer();
    gl.enable(gl.DEPTH_TEST);
    gl.blendFunc(gl.SRC_ALPHA, gl.ONE_MINUS_SRC_ALPHA);
  }

  program(corners, pixels) {
    const gl = this.gl, made = gl.createProgram();
    for (const [kind, text] of [[gl.VERTEX_SHADER, corners], [gl.FRAGMENT_SHADER, pixels]]) {
      const shader = gl.createShader(kind);
      gl.shaderSource(shader, text);
      gl.compileShader(shader);
      if (!gl.getShaderParameter(shader, gl.COMPILE_STATUS)) throw new Error(gl.getShaderInfoLog(shader));
      gl.attachShader(made, shader);
    }
    gl.bindAttribLocation(made, 0, "corner");
    gl.bindAttribLocation(made, 1, "paint");
    gl.linkProgram(made);
    const found = { made };
    for (let k = 0; k < gl.getProgramParameter(made, gl.ACTIVE_UNIFORMS); k++) {
      const { name } = gl.getActiveUniform(made, k);
      found[name] = gl.getUniformLocation(made, name);
    }
    return found;
  }

  buffered(corners, triangles) {
    const gl = this.gl, array = gl.createVertexArray();
    gl.bindVertexArray(array);
    gl.bindBuffer(gl.ARRAY_BUFFER, gl.createBuffer());
    gl.bufferData(gl.ARRAY_BUFFER, corners, gl.STATIC_DRAW);
    gl.enableVertexAttribArray(0);
    gl.vertexAttribPointer(0, 3, gl.FLOAT, false, 0, 0);
    gl.bindBuffer(gl.ELEMENT_ARRAY_BUFFER, gl.createBuffer());
    gl.bufferData(gl.ELEMENT_ARRAY_BUFFER, triangles, gl.STATIC_DRAW);
    gl.bindVertexArray(null);
    return { array, count: triangles.length };
  }

  // Begin a picture in a rectangle of the canvas (pixels from the lower left corner).
  begin([left, low, width, height], colour) {
    const gl = this.gl;
    gl.viewport(left, low, width, height);
    gl.scissor(left, low, width, height);
    gl.enable(gl.SCISSOR_TEST);
    gl.clearColor(...colour);
    gl.depthMask(true);
    gl.clear(gl.COLOR_BUFFER_BIT | gl.DEPTH_BUFFER_BIT);
  }

  // Shapes: [buffers, matrix, colour (4)], those that are not opaque last; nearer than others at the same place by a bias.
  fill(shapes, view, eye, bias = 0) {
    const gl = this.gl, p = this.shapes;
    if (bias) gl.enable(gl.POLYGON_OFFSET_FILL); else gl.disable(gl.POLYGON_OFFSET_FILL);
    gl.polygonOffset(bias, 4 * bias);
    gl.useProgram(p.made);
    gl.uniformMatrix4fv(p.view, false, view);
    gl.uniform3fv(p.eye, eye);
    for (const clear of [false, true]) {
      if (clear) gl.enable(gl.BLEND);
      gl.depthMask(!clear);
      for (const [mesh, place, colour] of shapes) {
        if (colour[3] < 0.999 !== clear) continue;
        gl.uniformMatrix4fv(p.place, false, place);
        gl.uniform4fv(p.colour, colour);
        gl.bindVertexArray(mesh.array);
        gl.drawElements(gl.TRIANGLES, mesh.count, gl.UNSIGNED_INT, 0);
      }
    }
    gl.depthMask(true);
    gl.disable(gl.BLEND);
    gl.disable(gl.POLYGON_OFFSET_FILL);
  }

  floor(height, gap, view, eye, colour, edge) {
    const gl = this.gl, p = this.ground, far = 4000 * gap;
    const place = new Float32Array([far, 0, 0, 0, 0, far, 0, 0, 0, 0, 1, 0, eye[0], eye[1], height, 1]);
    gl.useProgram(p.made);
    gl.uniformMatrix4fv(p.view, false, view);
    gl.uniformMatrix4fv(p.place, false, place);
    gl.uniform3fv(p.eye, eye);
    gl.uniform4fv(p.colour, colour);
    gl.uniform4fv(p.edge, edge);
    gl.uniform1f(p.gap, gap);
    gl.enable(gl.BLEND);
    gl.enable(gl.POLYGON_OFFSET_FILL);
    gl.polygonOffset(2, 8); // things that lie on it are seen
    gl.bindVertexArray(this.plane.array);
    gl.drawElements(gl.TRIANGLES, this.plane.count, gl.UNSIGNED_INT, 0);
    gl.disable(gl.POLYGON_OFFSET_FILL);
    gl.disable(gl.BLEND);
  }

  // Lines or points: rows of x, y, z, r, g, b, a.
  strokesOf(rows, view, kind = "lines", size = 3, overAll = false) {
    if (!rows.length) return;
    const gl = this.gl;
    gl.useProgram(this.strokes.made);
    gl.uniformMatrix4fv(this.strokes.view, false, view);
    gl.uniform1f(this.strokes.size, size);
    gl.bindVertexArray(null);
    gl.bindBuffer(gl.ARRAY_BUFFER, this.lines);
    gl.bufferData(gl.ARRAY_BUFFER, rows instanceof Float32Array ? rows : new Float32Array(rows), gl.DYNAMIC_DRAW);
    gl.enableVertexAttribArray(0);
    gl.vertexAttribPointer(0, 3, gl.FLOAT, false, 28, 0);
    gl.enableVertexAttribArray(1);
    gl.vertexAttribPointer(1, 4, gl.FLOAT, false, 28, 12);
    gl.enable(gl.BLEND);
    if (overAll) gl.disable(gl.DEPTH_TEST);
    gl.drawArrays(kind === "lines" ? gl.LINES : gl.POINTS, 0, rows.length / 7);
    gl.enable(gl.DEPTH_TEST);
    gl.disable(gl.BLEND);
    gl.disableVertexAttribArray(1);
  }
}
