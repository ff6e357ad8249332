// The stage: the proxy drawn through the lattice, and what is drawn over it.
import { PictureTexture } from "./picture.js";
import { straight } from "./warp.js";

const VERTEX = `
attribute vec2 place;   // share of the output picture
attribute vec2 source;  // share of the source picture
uniform vec4 box;       // left, top, width, height in shares of the canvas
varying highp vec2 at;
void main() {
  at = source;
  vec2 p = box.xy + place * box.zw;
  gl_Position = vec4(p.x * 2.0 - 1.0, 1.0 - p.y * 2.0, 0.0, 1.0);
}`;

// A picture drawn whole and without a bare edge needs nothing but itself.
const PLAIN = `
precision mediump float;
uniform sampler2D picture;
varying highp vec2 at;
void main() {
  gl_FragColor = texture2D(picture, at);
}`;

// One that is cut by the dividing line, or leaves edges bare.
const PARTIAL = `
precision highp float;
uniform sampler2D picture;
uniform vec4 cut;       // normal x, y and offset of a dividing line in canvas pixels; side (0: none)
uniform float hatch;
uniform float height;
varying vec2 at;
void main() {
  vec2 pixel = vec2(gl_FragCoord.x, height - gl_FragCoord.y);
  if (cut.w != 0.0 && (dot(pixel, cut.xy) - cut.z) * cut.w < 0.0) discard;
  if (at.x < 0.0 || at.y < 0.0 || at.x > 1.0 || at.y > 1.0) {
    float stripe = step(0.5, fract((pixel.x + pixel.y) / 11.0));
    gl_FragColor = vec4(mix(vec3(0.0), mix(vec3(0.13, 0.19, 0.22), vec3(0.78, 0.27, 0.18), stripe), hatch), 1.0);
    return;
  }
  gl_FragColor = texture2D(picture, at);
}`;

const SLOTS = ["place", "source"];

export class Stage {
  constructor({ picture, overlay, video, changed }) {
    Object.assign(this, { picture, overlay, video, changed });
    this.mode = "treated";
    this.peek = false;
    this.grid = false;
    this.bare = false;
    this.marks = false;
    this.dotSize = 3;
    this.split = { x: 0.5, y: 0.5, turn: 0 };
    this.lattice = straight;
    this.source = { width: 16, height: 9, aspect: 1 };
    this.output = this.source;
    this.times = new Float64Array([0]);
    this.first = 0;
    this.last = 0;
    this.frame = 0; // of the recording
    this.drawn = 0; // pictures drawn, for measuring
    this.markSets = new Map();
    this.start();
    new ResizeObserver(() => this.resize()).observe(picture.parentElement);
    this.resize();
    video.addEventListener("seeked", () => this.settle());
    this.watch();
  }

  start() {
    const gl = this.picture.getContext("webgl", { antialias: false });
    if (!gl) throw new Error("This browser cannot draw with WebGL, which the picture needs.");
    this.gl = gl;
    this.texture = new PictureTexture(gl, this.video);
    this.programs = { plain: this.program(PLAIN), partial: this.program(PARTIAL) };
    this.buffers = {};
    for (const name of SLOTS) {
      this.buffers[name] = gl.createBuffer();
      const slot = SLOTS.indexOf(name);
      gl.bindBuffer(gl.ARRAY_BUFFER, this.buffers[name]);
      gl.enableVertexAttribArray(slot);
      gl.vertexAttribPointer(slot, 2, gl.FLOAT, false, 0, 0);
    }
    this.buffers.index = gl.createBuffer();
    gl.bindBuffer(gl.ELEMENT_ARRAY_BUFFER, this.buffers.index);
  }

  // A linked program and where its uniforms are.
  program(fragment) {
    const { gl } = this;
    const program = gl.createProgram();
    for (const [kind, text] of [[gl.VERTEX_SHADER, VERTEX], [gl.FRAGMENT_SHADER, fragment]]) {
      const shader = gl.createShader(kind);
      gl.shaderSource(shader, text);
      gl.compileShader(shader);
      if (!gl.getShaderParameter(shader, gl.COMPILE_STATUS)) throw new Error(gl.getShaderInfoLog(shader));
      gl.attachShader(program, shader);
    }
    SLOTS.forEach((name, slot) => gl.bindAttribLocation(program, slot, name));
    gl.linkProgram(program);
    const where = {};
    for (const name of ["box", "cut", "hatch", "height"]) where[name] = gl.getUniformLocation(program, name);
    return { program, where };
  }

  // Until there is a solution, the treated picture is the source.
  untreated() {
    this.lattice = straight;
    this.output = this.source;
  }

  resize() {
    const ratio = window.devicePixelRatio || 1;
    const { clientWidth, clientHeight } = this.picture.parentElement;
    for (const canvas of [this.picture, this.overlay]) {
      canvas.width = Math.max(1, Math.round(clientWidth * ratio));
      canvas.height = Math.max(1, Math.round(clientHeight * ratio));
    }
    this.ratio = ratio;
    this.draw();
  }

  // --- time -------------------------------------------------------------------------------------

  // Presentation times differ between machines by rounding; the frame shown is the nearest one.
  frameAt(time) {
    let low = 0;
    let high = this.times.length - 1;
    while (low < high) {
      const middle = (low + high + 1) >> 1;
      if (this.times[middle] <= time + 1e-4) low = middle;
      else high = middle - 1;
    }
    const next = this.times[low + 1];
    return next !== undefined && next - time < time - this.times[low] ? low + 1 : low;
  }

  watch() {
    this.video.requestVideoFrameCallback((_now, { mediaTime }) => {
      this.show(this.frameAt(mediaTime));
      this.watch();
    });
  }

  // A frame callback is a best effort; after a seek on a stopped clip there is no second chance,
  // so the picture is then drawn in any case.
  settle() {
    setTimeout(() => {
      if (this.video.paused && !this.video.seeking && this.target !== undefined && this.frame !== this.target) this.show(this.target);
    }, 60);
  }

  async show(frame) {
    if (!(await this.texture.take())) return;
    this.frame = frame;
    this.loaded = true;
    if (!this.video.paused && frame >= this.last) this.seek(this.first); // play in a loop
    this.drawn += 1;
    this.draw();
    this.changed(frame);
  }

  // Within the range, or, with anywhere, within the recording.
  seek(frame, anywhere = false) {
    const [first, last] = anywhere ? [0, this.times.length - 1] : [this.first, this.last];
    const to = Math.max(first, Math.min(last, frame));
    this.target = to;
    const next = this.times[to + 1];
    const step = this.times.length > 1 ? this.times[1] - this.times[0] : 0.04;
    // The middle of the frame's time: no rounding can turn it into a neighbour.
    this.video.currentTime = this.times[to] + (next === undefined ? step : next - this.times[to]) / 2;
  }

  step(count) {
    this.pause();
    this.seek((this.video.seeking ? this.target : this.frame) + count);
  }

  play() {
    if (this.frame >= this.last || this.frame < this.first) this.seek(this.first);
    return this.video.play().catch(() => {});
  }

  pause() {
    this.video.pause();
  }

  // --- drawing ----------------------------------------------------------------------------------

  // The picture's box in canvas pixels, inside a region given in canvas pixels.
  box(region, shape) {
    const gap = 10 * this.ratio;
    const width = this.source.width * this.source.aspect;
    const fit = Math.min((region.width - 2 * gap) / width, (region.height - 2 * gap) / this.source.height);
    const w = shape.width * shape.aspect * fit;
    const h = shape.height * fit;
    return { left: region.left + (region.width - w) / 2, top: region.top + (region.height - h) / 2, width: w, height: h };
  }

  // Outside the range nothing is treated.
  get outside() {
    return this.frame < this.first || this.frame > this.last;
  }

  // What is drawn where: a list of { treated, box, side }.
  layout() {
    const { width, height } = this.picture;
    const whole = { left: 0, top: 0, width, height };
    const mode = this.peek || this.outside ? "original" : this.mode;
    if (mode === "side") {
      const left = { left: 0, top: 0, width: width / 2, height };
      const right = { left: width / 2, top: 0, width: width / 2, height };
      return [
        { treated: false, box: this.box(left, this.source), side: 0 },
        { treated: true, box: this.box(right, this.output), side: 0 },
      ];
    }
    const treated = { treated: true, box: this.box(whole, this.output), side: mode === "split" ? 1 : 0 };
    const original = { treated: false, box: this.box(whole, this.source), side: mode === "split" ? -1 : 0 };
    return { original: [original], treated: [treated], split: [original, treated] }[mode];
  }

  // The dividing line: a normal pointing to the treated side, and a point on it, in canvas pixels.
  line() {
    const box = this.box({ left: 0, top: 0, width: this.picture.width, height: this.picture.height }, this.source);
    const point = [box.left + this.split.x * box.width, box.top + this.split.y * box.height];
    const normal = [Math.cos(this.split.turn), Math.sin(this.split.turn)];
    return { point, normal, box };
  }

  draw() {
    const { gl, picture } = this;
    gl.viewport(0, 0, picture.width, picture.height);
    gl.clearColor(0, 0, 0, 0);
    gl.clear(gl.COLOR_BUFFER_BIT);
    if (!this.loaded) return;
    const { point, normal } = this.line();
    const offset = point[0] * normal[0] + point[1] * normal[1];
    for (const { treated, box, side } of this.layout()) {
      const lattice = treated ? this.lattice : straight;
      const nodes = lattice.frame(treated ? this.frame - this.first : 0);
      // Between nodes inside the source there is nothing outside it.
      const covered = nodes.every((share) => share >= 0 && share <= 1);
      const { program, where } = side || !covered ? this.programs.partial : this.programs.plain;
      gl.useProgram(program);
      gl.uniform4f(where.box, box.left / picture.width, box.top / picture.height, box.width / picture.width, box.height / picture.height);
      gl.uniform4f(where.cut, normal[0], normal[1], offset, side);
      gl.uniform1f(where.hatch, this.bare ? 1 : 0);
      gl.uniform1f(where.height, picture.height);
      this.mesh(lattice, nodes);
    }
    this.drawOver();
  }

  mesh(lattice, nodes) {
    const { gl } = this;
    if (this.meshed !== `${lattice.columns} ${lattice.rows}`) {
      const places = [];
      const index = [];
      for (let j = 0; j < lattice.rows; j++) {
        for (let i = 0; i < lattice.columns; i++) {
          places.push(i / (lattice.columns - 1), j / (lattice.rows - 1));
          if (i + 1 < lattice.columns && j + 1 < lattice.rows) {
            const a = j * lattice.columns + i;
            const b = a + lattice.columns;
            index.push(a, a + 1, b, b, a + 1, b + 1);
          }
        }
      }
      gl.bindBuffer(gl.ARRAY_BUFFER, this.buffers.place);
      gl.bufferData(gl.ARRAY_BUFFER, new Float32Array(places), gl.STATIC_DRAW);
      gl.bufferData(gl.ELEMENT_ARRAY_BUFFER, new Uint16Array(index), gl.STATIC_DRAW);
      this.indexCount = index.length;
      this.meshed = `${lattice.columns} ${lattice.rows}`;
    }
    gl.bindBuffer(gl.ARRAY_BUFFER, this.buffers.source);
    gl.bufferData(gl.ARRAY_BUFFER, nodes, gl.DYNAMIC_DRAW);
    gl.drawElements(gl.TRIANGLES, this.indexCount, gl.UNSIGNED_SHORT, 0);
  }

  // Grid, marks, names of the halves: drawn on a canvas above the picture.
  drawOver() {
    const pen = this.overlay.getContext("2d");
    const parts = this.layout();
    const named = this.peek || this.outside || parts.length > 1;
    const wanted = this.grid || this.marks || named;
    // Clearing a large canvas costs as much as drawing the picture: only when there is something.
    if (wanted || this.written) pen.clearRect(0, 0, this.overlay.width, this.overlay.height);
    this.written = wanted;
    if (!wanted) return;
    for (const part of parts) {
      pen.save();
      if (part.side) this.clipSide(pen, part.side);
      if (this.grid) this.drawGrid(pen, part.box);
      if (this.marks) this.drawMarks(pen, part);
      pen.restore();
    }
    if (named) this.drawNames(pen, parts);
    if (parts.length > 1 && parts[0].side) this.drawLine(pen);
  }

  clipSide(pen, side) {
    const { point, normal } = this.line();
    const far = 4 * (this.picture.width + this.picture.height);
    const along = [-normal[1], normal[0]];
    pen.beginPath();
    for (const [a, n] of [[-1, 0], [1, 0], [1, 1], [-1, 1]]) {
      pen.lineTo(point[0] + far * (a * along[0] + n * side * normal[0]), point[1] + far * (a * along[1] + n * side * normal[1]));
    }
    pen.clip();
  }

  drawGrid(pen, box) {
    const step = box.height / 8;
    const lines = new Path2D();
    for (let x = box.left + box.width / 2; x < box.left + box.width; x += step) {
      for (const at of [x, 2 * box.left + box.width - x]) {
        lines.moveTo(at, box.top);
        lines.lineTo(at, box.top + box.height);
      }
    }
    for (let y = box.top + box.height / 2; y < box.top + box.height; y += step) {
      for (const at of [y, 2 * box.top + box.height - y]) {
        lines.moveTo(box.left, at);
        lines.lineTo(box.left + box.width, at);
      }
    }
    // A dark line under a light one stays visible on any picture.
    for (const [colour, width] of [["rgb(0 0 0 / .5)", 2.4], ["rgb(255 255 255 / .75)", 0.9]]) {
      pen.strokeStyle = colour;
      pen.lineWidth = width * this.ratio;
      pen.stroke(lines);
    }
  }

  drawMarks(pen, { treated, box }) {
    const set = this.markSets.get(this.frame - this.first);
    if (!set) return;
    pen.beginPath();
    pen.rect(box.left, box.top, box.width, box.height);
    pen.clip();
    const radius = (this.dotSize * this.ratio) / 2;
    for (let i = 0; i < set.length; i += 3) {
      let [x, y] = [set[i], set[i + 1]];
      if (treated) [x, y] = this.lattice.unmap(this.frame - this.first, x, y);
      const [px, py] = [box.left + x * box.width, box.top + y * box.height];
      pen.beginPath();
      pen.lineWidth = this.ratio;
      if (set[i + 2]) {
        pen.arc(px, py, radius, 0, 7);
        pen.fillStyle = "#8CF0C0";
        pen.strokeStyle = "rgb(0 0 0 / .75)";
        pen.fill();
        pen.stroke();
      } else {
        // Rejected by the fit: an open diamond, so that colour is not the only difference.
        const r = radius * 1.5;
        pen.moveTo(px, py - r);
        pen.lineTo(px + r, py);
        pen.lineTo(px, py + r);
        pen.lineTo(px - r, py);
        pen.closePath();
        pen.strokeStyle = "rgb(0 0 0 / .8)";
        pen.lineWidth = 2.6 * this.ratio;
        pen.stroke();
        pen.strokeStyle = "#FFB36B";
        pen.lineWidth = 1.2 * this.ratio;
        pen.stroke();
      }
    }
  }

  drawLine(pen) {
    const { point, normal } = this.line();
    const far = this.picture.width + this.picture.height;
    for (const [colour, width] of [["rgb(0 0 0 / .55)", 3.5], ["#fff", 1.5]]) {
      pen.beginPath();
      pen.moveTo(point[0] + far * normal[1], point[1] - far * normal[0]);
      pen.lineTo(point[0] - far * normal[1], point[1] + far * normal[0]);
      pen.strokeStyle = colour;
      pen.lineWidth = width * this.ratio;
      pen.stroke();
    }
  }

  drawNames(pen, parts) {
    pen.font = `${13 * this.ratio}px "Source Sans 3", sans-serif`;
    pen.textBaseline = "middle";
    const { point, normal } = this.line();
    for (const { treated, box, side } of parts) {
      const text = treated ? "treated" : this.outside ? "outside the range" : "original";
      const width = pen.measureText(text).width + 14 * this.ratio;
      const height = 22 * this.ratio;
      let x = box.left + 8 * this.ratio;
      let y = box.top + 8 * this.ratio;
      if (side) {
        const away = 46 * this.ratio;
        x = point[0] + side * normal[0] * (away + width / 2) - width / 2;
        y = box.top + 8 * this.ratio + (Math.abs(normal[1]) > 0.5 ? point[1] - box.top + side * normal[1] * away : 0);
        x = Math.max(box.left + 4, Math.min(box.left + box.width - width - 4, x));
        y = Math.max(box.top + 4, Math.min(box.top + box.height - height - 4, y));
      }
      pen.fillStyle = "rgb(10 22 28 / .8)";
      pen.fillRect(x, y, width, height);
      pen.fillStyle = "#fff";
      pen.fillText(text, x + 7 * this.ratio, y + height / 2);
    }
  }
}
