// The stage: the proxy drawn through the lattice, and what is drawn over it.
import { RULING, drawGrid } from "./grid.js";
import { Markings } from "./markings.js";
import { PictureTexture } from "./picture.js";
import { CHANGED, PARTIAL, PLAIN, VERTEX } from "./shaders.js";
import { straight } from "./warp.js";

const SLOTS = ["place", "source", "earlier"];
const CLOSEST = 12; // times the picture is enlarged at most

export class Stage {
  constructor({ picture, overlay, video, changed }) {
    Object.assign(this, { picture, overlay, video, changed });
    this.mode = "treated";
    this.peek = false;
    this.grid = false;
    this.ruling = { ...RULING };
    this.bare = false;
    this.markings = new Markings(this);
    this.extras = []; // what else is drawn over the picture: functions of a pen and a part
    this.clean = false; // nothing at all over the picture
    this.grips = []; // handles as drawn: { spot, move, magnified }
    this.magnified = null; // a place shown enlarged while a handle is dragged to it
    this.zoom = 1; // of the view, not of the treatment
    this.centre = { x: 0.5, y: 0.5 }; // what of the picture is in the middle
    this.against = null; // { lattice, output, name }: what is compared with; null: the original
    this.loop = null; // [first, last] of the recording
    this.split = { x: 0.5, y: 0.5, turn: 0 };
    this.lattice = straight;
    this.source = { width: 16, height: 9, aspect: 1 };
    this.output = this.source;
    this.times = new Float64Array([0]);
    this.first = 0;
    this.last = 0;
    this.frame = 0; // of the recording
    this.drawn = 0; // pictures drawn, for measuring
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
    this.programs = { plain: this.program(PLAIN), partial: this.program(PARTIAL), changed: this.program(CHANGED) };
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
    for (const name of ["box", "cut", "hatch", "height", "before"]) where[name] = gl.getUniformLocation(program, name);
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
    if (!(await this.texture.take(frame))) return;
    this.frame = frame;
    this.loaded = true;
    const [first, last] = this.loop || [this.first, this.last];
    if (!this.video.paused && frame >= last) this.seek(first); // play in a loop
    if (this.then === frame + 1) {
      this.then = undefined;
      this.goTo(frame + 1);
    }
    this.drawn += 1;
    this.draw();
    this.changed(frame);
  }

  // Within the range, or, with anywhere, within the recording.
  seek(frame, anywhere = false) {
    const [first, last] = anywhere ? [0, this.times.length - 1] : [this.first, this.last];
    const to = Math.max(first, Math.min(last, frame));
    // A difference needs the picture before.
    this.then = this.mode === "difference" && this.video.paused && to > first && this.frame !== to - 1 ? to : undefined;
    this.goTo(this.then === undefined ? to : to - 1);
  }

  goTo(to) {
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
    const [first, last] = this.loop || [this.first, this.last];
    if (this.frame >= last || this.frame < first) this.seek(first);
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
    // An output of another size is shown as large as fits; its pixels are its own.
    const own = Math.min(1, width / (shape.width * shape.aspect), this.source.height / shape.height);
    const w = shape.width * shape.aspect * own * fit * this.zoom;
    const h = shape.height * own * fit * this.zoom;
    return {
      left: region.left + region.width / 2 - this.centre.x * w,
      top: region.top + region.height / 2 - this.centre.y * h,
      width: w,
      height: h,
    };
  }

  // Enlarge the view by a factor about a place in canvas pixels.
  closer(factor, x, y) {
    const part = this.partAt(x, y);
    const u = (x - part.box.left) / part.box.width;
    const v = (y - part.box.top) / part.box.height;
    const zoom = Math.max(1, Math.min(CLOSEST, this.zoom * factor));
    const grown = zoom / this.zoom;
    this.look(zoom, u + (this.centre.x - u) / grown, v + (this.centre.y - v) / grown);
  }

  look(zoom, x, y) {
    this.zoom = zoom;
    const share = (value) => (zoom === 1 ? 0.5 : Math.max(0, Math.min(1, value)));
    this.centre = { x: share(x), y: share(y) };
    this.draw();
  }

  // Where a pointer is, canvas pixels.
  spot(event) {
    const { left, top } = this.picture.getBoundingClientRect();
    return [(event.clientX - left) * this.ratio, (event.clientY - top) * this.ratio];
  }

  // The part of the stage at a place in canvas pixels.
  partAt(x, y) {
    const parts = this.layout();
    if (parts.length === 1) return parts[0];
    if (!parts[0].side) return parts[x < this.picture.width / 2 ? 0 : 1];
    const { point, normal } = this.line();
    const side = (x - point[0]) * normal[0] + (y - point[1]) * normal[1];
    return parts[side > 0 ? 1 : 0];
  }

  // The place of the source under a place in canvas pixels, in shares.
  sourceAt(x, y) {
    const { lattice, box } = this.partAt(x, y);
    return lattice.map(this.frame - this.first, (x - box.left) / box.width, (y - box.top) / box.height);
  }

  // Outside the range nothing is treated.
  get outside() {
    return this.frame < this.first || this.frame > this.last;
  }

  // What is drawn where: a list of { treated, name, lattice, region, box, side }.
  layout() {
    const { width, height } = this.picture;
    const whole = { left: 0, top: 0, width, height };
    const mode = this.peek || this.outside ? "original" : this.mode;
    const other = this.against && !this.outside ? this.against : { lattice: straight, output: this.source, name: this.outside ? "outside the range" : "original" };
    const part = (mine, region, side = 0) => ({
      treated: mine,
      name: mine ? "treated" : other.name,
      lattice: mine ? this.lattice : other.lattice,
      region,
      box: this.box(region, mine ? this.output : other.output),
      side,
    });
    if (mode === "side") {
      const left = { left: 0, top: 0, width: width / 2, height };
      return [part(false, left), part(true, { ...left, left: width / 2 })];
    }
    if (mode === "split") return [part(false, whole, -1), part(true, whole, 1)];
    return [part(mode !== "original", whole)];
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
    gl.enable(gl.SCISSOR_TEST);
    for (const { lattice, region, box, side } of this.layout()) {
      gl.scissor(region.left, picture.height - region.top - region.height, region.width, region.height);
      const at = this.frame - this.first;
      const nodes = lattice.frame(at);
      // Between nodes inside the source there is nothing outside it.
      const covered = nodes.every((share) => share >= 0 && share <= 1);
      const differs = this.mode === "difference" && !this.peek && !this.outside;
      if (differs && !this.texture.follows(this.frame)) continue;
      const { program, where } = differs ? this.programs.changed : side || !covered ? this.programs.partial : this.programs.plain;
      gl.useProgram(program);
      gl.uniform4f(where.box, box.left / picture.width, box.top / picture.height, box.width / picture.width, box.height / picture.height);
      gl.uniform4f(where.cut, normal[0], normal[1], offset, side);
      gl.uniform1f(where.hatch, this.bare && !this.clean ? 1 : 0);
      gl.uniform1f(where.height, picture.height);
      gl.uniform1i(where.before, 1);
      this.mesh(lattice, nodes, differs ? lattice.frame(at - 1) : nodes);
    }
    gl.disable(gl.SCISSOR_TEST);
    this.drawOver();
  }

  mesh(lattice, nodes, before) {
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
    gl.bindBuffer(gl.ARRAY_BUFFER, this.buffers.earlier);
    gl.bufferData(gl.ARRAY_BUFFER, before, gl.DYNAMIC_DRAW);
    gl.drawElements(gl.TRIANGLES, this.indexCount, gl.UNSIGNED_SHORT, 0);
  }

  // Grid, marks, names of the halves: drawn on a canvas above the picture.
  drawOver() {
    const pen = this.overlay.getContext("2d");
    const parts = this.layout();
    const named = this.peek || this.outside || parts.length > 1;
    const difference = this.mode === "difference" && parts[0].treated;
    const over = !this.clean && Boolean(this.grid || this.markings.on || this.markings.drawing || this.extras.length);
    const wanted = over || named || difference;
    // Clearing a large canvas costs as much as drawing the picture: only when there is something.
    if (wanted || this.written) pen.clearRect(0, 0, this.overlay.width, this.overlay.height);
    this.written = wanted;
    if (!wanted) return;
    this.markings.spots = [];
    this.grips = [];
    for (const part of parts) {
      pen.save();
      pen.beginPath();
      pen.rect(part.region.left, part.region.top, part.region.width, part.region.height);
      pen.clip();
      if (part.side) this.clipSide(pen, part.side);
      if (over) {
        if (this.grid) drawGrid(pen, part, this.ruling, this);
        if (this.markings.on) this.markings.draw(pen, part);
        for (const extra of this.extras) extra(pen, part);
      }
      pen.restore();
    }
    if (over) this.markings.drawLasso(pen);
    if (over && this.magnified) this.magnify(pen, this.magnified);
    if (named) this.drawNames(pen, parts);
    if (difference) this.drawNames(pen, [{ ...parts[0], name: this.texture.follows(this.frame) ? "change since the frame before, × 4" : "play or step to see what changes" }]);
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

  // A place of the source, in shares, on the canvas.
  place(part, [x, y]) {
    return this.markings.spot(part, this.frame - this.first, x, y);
  }

  // Writing over the picture that can be read on any.
  label(pen, text, x, y) {
    pen.font = `600 ${12 * this.ratio}px "Source Sans 3", sans-serif`;
    pen.textBaseline = "middle";
    pen.lineWidth = 3 * this.ratio;
    pen.lineJoin = "round";
    pen.strokeStyle = "rgb(10 22 28 / .85)";
    pen.strokeText(text, x, y);
    pen.fillStyle = "#fff";
    pen.fillText(text, x, y);
  }

  // What lies under a place, four times as large, in the corner that is farthest from it.
  magnify(pen, [x, y]) {
    const { picture, ratio } = this;
    const size = 168 * ratio;
    const seen = size / 4;
    const left = x > picture.width / 2 ? 10 * ratio : picture.width - size - 10 * ratio;
    const top = 10 * ratio;
    pen.save();
    pen.fillStyle = "#888";
    pen.fillRect(left, top, size, size);
    pen.imageSmoothingEnabled = false;
    pen.drawImage(picture, x - seen / 2, y - seen / 2, seen, seen, left, top, size, size);
    pen.strokeStyle = "#FFE27A";
    pen.lineWidth = 1.2 * ratio;
    pen.beginPath();
    pen.moveTo(left + size / 2, top);
    pen.lineTo(left + size / 2, top + size);
    pen.moveTo(left, top + size / 2);
    pen.lineTo(left + size, top + size / 2);
    pen.stroke();
    pen.lineWidth = 2 * ratio;
    pen.strokeStyle = "#fff";
    pen.strokeRect(left, top, size, size);
    pen.restore();
  }

  dot(pen, [x, y], size) {
    pen.beginPath();
    pen.arc(x, y, size * this.ratio, 0, 7);
    pen.fillStyle = "#fff";
    pen.fill();
    pen.lineWidth = 2 * this.ratio;
    pen.strokeStyle = "#C7452D";
    pen.stroke();
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
    for (const { name: text, box, region, side } of parts) {
      const width = pen.measureText(text).width + 14 * this.ratio;
      const height = 22 * this.ratio;
      let x = Math.max(box.left, region.left) + 8 * this.ratio;
      let y = Math.max(box.top, region.top) + 8 * this.ratio;
      if (side) {
        const away = 46 * this.ratio;
        x = point[0] + side * normal[0] * (away + width / 2) - width / 2;
        y += (Math.abs(normal[1]) > 0.5 ? point[1] - y + side * normal[1] * away : 0);
        x = Math.max(4, Math.min(this.picture.width - width - 4, x));
        y = Math.max(4, Math.min(this.picture.height - height - 4, y));
      }
      pen.fillStyle = "rgb(10 22 28 / .8)";
      pen.fillRect(x, y, width, height);
      pen.fillStyle = "#fff";
      pen.fillText(text, x + 7 * this.ratio, y + height / 2);
    }
  }
}
