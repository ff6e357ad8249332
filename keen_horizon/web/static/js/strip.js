// The strip: one time axis, with the path before and after, room left, confidence and cuts.

const TOP = 16; // room for the flag and the seconds
const TICKS = [0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1800]; // seconds
const ROOM = 22;
const SURE = 6;

export class Strip {
  constructor(canvas, playhead, { go, moveKeys }) {
    this.canvas = canvas;
    this.playhead = playhead;
    this.data = null;
    this.count = 1;
    this.at = 0;
    this.component = "across";
    this.borrowed = null; // share of a frame that neighbours lend
    this.held = null; // how surely a held point is known
    this.ghost = null; // { from, to }: keyframes that are being dragged
    this.loop = null; // [first, last] of what is played over and over
    new ResizeObserver(() => this.resize()).observe(canvas);
    const frameAt = (event) => {
      const { left, width } = canvas.getBoundingClientRect();
      return Math.max(0, Math.min(this.count - 1, Math.round(((event.clientX - left) / width) * (this.count - 1))));
    };
    let dragged = null; // keyframes, by their frame
    canvas.addEventListener("pointerdown", (event) => {
      canvas.setPointerCapture(event.pointerId);
      dragged = this.keyAt(event);
      go(dragged === null ? frameAt(event) : dragged);
    });
    canvas.addEventListener("pointermove", (event) => {
      if (dragged !== null) {
        if (event.buttons & 1 && frameAt(event) !== dragged) this.dragKey(dragged, frameAt(event));
      } else if (event.buttons & 1) go(frameAt(event));
      canvas.style.cursor = this.keyAt(event) === null ? "" : "ew-resize";
    });
    canvas.addEventListener("pointerup", (event) => {
      if (dragged !== null && this.ghost) moveKeys(dragged, frameAt(event));
      dragged = this.ghost = null;
    });
  }

  resize() {
    const ratio = window.devicePixelRatio || 1;
    this.canvas.width = Math.max(1, Math.round(this.canvas.clientWidth * ratio));
    this.canvas.height = Math.max(1, Math.round(this.canvas.clientHeight * ratio));
    this.ratio = ratio;
    this.draw();
  }

  set(data, count, tightest) {
    Object.assign(this, { data, count, tightest });
    this.draw();
  }

  // Keyframes are where they are set, whatever is still being solved.
  showKeys(keys) {
    if (!this.data || keys.join() === this.data.keys.join()) return;
    this.data.keys = keys;
    this.draw();
  }

  setLoop(loop) {
    this.loop = loop;
    this.draw();
  }

  // The component of the path on which the correction is easiest to see.
  telling() {
    const { before, after } = this.data;
    const span = (line) => line.reduce((most, value) => Math.max(most, value), -Infinity) - line.reduce((least, value) => Math.min(least, value), Infinity);
    const seen = (name) => span(before[name].map((value, i) => value - after[name][i])) / Math.max(1e-6, span(before[name]));
    return seen("updown") > seen("across") ? "updown" : "across";
  }

  show(component) {
    this.component = component;
    this.draw();
  }

  // The playhead moves every frame; it is an element of its own, so that nothing is drawn again.
  go(at) {
    this.at = at;
    this.playhead.style.transform = `translateX(${this.x(at) / this.ratio}px)`;
  }

  // Colours of the present light, asked for once a drawing.
  colour(name) {
    this.palette[name] ||= this.style.getPropertyValue(name).trim();
    return this.palette[name];
  }

  // Bars of a value a frame as [x, width, value]. Where frames are narrower than a pixel, the least
  // of each pixel's: that is the one to see.
  *bars(values) {
    const wide = this.canvas.width / this.count;
    if (wide >= 1) {
      for (let i = 0; i < this.count; i++) yield [this.x(i - 0.5), wide + 1, values[i]];
      return;
    }
    for (let x = 0, i = 0; x < this.canvas.width; x++) {
      let least = Infinity;
      for (const end = Math.min(this.count, Math.ceil((x + 1) / wide)); i < end; i++) least = Math.min(least, values[i]);
      if (least !== Infinity) yield [x, 1, least];
    }
  }

  x(index) {
    return this.count > 1 ? (index / (this.count - 1)) * this.canvas.width : 0;
  }

  draw() {
    const pen = this.canvas.getContext("2d");
    const { width, height } = this.canvas;
    pen.clearRect(0, 0, width, height);
    const r = this.ratio;
    if (!this.data) return;
    this.style = getComputedStyle(document.documentElement);
    this.palette = {};
    const floor = height - (ROOM + SURE + 6) * r;
    this.seconds(pen);
    this.paths(pen, TOP * r, floor);
    this.room(pen, floor + 3 * r, ROOM * r);
    for (const [x, wide, sure] of this.bars(this.data.confidence)) {
      pen.fillStyle = this.colour(sure < 0.3 ? "--strip-weak" : "--strip-sure");
      pen.globalAlpha = 0.25 + 0.75 * sure;
      pen.fillRect(x, height - SURE * r, wide, SURE * r);
    }
    pen.globalAlpha = 1;
    if (this.borrowed) this.lent(pen, floor);
    if (this.held) this.heldTrace(pen, height);
    this.blurred(pen, height);
    this.keys(pen, floor);
    if (this.loop) this.shade(pen, height);
    for (const cut of this.data.cuts) {
      pen.strokeStyle = this.colour("--ink");
      pen.setLineDash([4 * r, 3 * r]);
      pen.beginPath();
      pen.moveTo(this.x(cut), 0);
      pen.lineTo(this.x(cut), height);
      pen.stroke();
      pen.setLineDash([]);
      this.label(pen, "cut", this.x(cut) + 4 * r, 8 * r, "--ink");
    }
    if (this.tightest !== null) this.flag(pen, this.x(this.tightest), height);
    this.go(this.at);
  }

  // Ticks at round seconds of the range, about a hundred pixels apart.
  seconds(pen) {
    const { times } = this.data;
    const length = times[times.length - 1] - times[0];
    if (!(length > 0)) return;
    const r = this.ratio;
    const least = (100 * r * length) / this.canvas.width;
    const step = TICKS.find((tick) => tick >= least) || 3600;
    let frame = 0;
    for (let second = step; second < length; second += step) {
      while (times[frame] - times[0] < second - 1e-6) frame += 1;
      const x = this.x(frame);
      pen.strokeStyle = this.colour("--line");
      pen.lineWidth = r;
      pen.beginPath();
      pen.moveTo(x, 0);
      pen.lineTo(x, 5 * r);
      pen.stroke();
      if (this.tightest !== null && Math.abs(x - this.x(this.tightest)) < 96 * r) continue; // its flag is there
      const text = second < 60 ? `${Math.round(10 * second) / 10} s` : `${Math.floor(second / 60)}:${String(second % 60).padStart(2, "0")}`;
      this.label(pen, text, x + 4 * r, 7 * r, "--ink-2");
    }
  }

  paths(pen, top, bottom) {
    const { before, after } = this.data;
    let low = Infinity;
    let high = -Infinity;
    for (const line of [before[this.component], after[this.component]]) {
      for (const value of line) {
        low = Math.min(low, value);
        high = Math.max(high, value);
      }
    }
    const least = { across: 4, updown: 4, roll: 0.2, size: 0.4 }[this.component];
    if (high - low < least) [low, high] = [(low + high - least) / 2, (low + high + least) / 2];
    const y = (value) => bottom - ((value - low) / (high - low)) * (bottom - top);
    const r = this.ratio;
    // Depth contours: thin lines at round values, with their value.
    const step = 10 ** Math.floor(Math.log10((high - low) / 2));
    const wide = (high - low) / step > 6 ? step * 5 : step;
    for (let value = Math.ceil(low / wide) * wide; value <= high; value += wide) {
      pen.strokeStyle = this.colour("--line");
      pen.lineWidth = r * 0.6;
      pen.beginPath();
      pen.moveTo(0, y(value));
      pen.lineTo(this.canvas.width, y(value));
      pen.stroke();
      this.label(pen, String(Math.round(value * 100) / 100), 4 * r, y(value) - 5 * r, "--ink-2");
    }
    for (const [line, colour, weight] of [[before, "--strip-before", 1], [after, "--strip-after", 1.8]]) {
      pen.beginPath();
      line[this.component].forEach((value, i) => pen.lineTo(this.x(i), y(value)));
      pen.strokeStyle = this.colour(colour);
      pen.lineWidth = weight * r;
      pen.stroke();
    }
  }

  room(pen, top, height) {
    const most = this.data.room.reduce((most, room) => Math.max(most, room), 8);
    pen.globalAlpha = 0.75;
    for (const [x, wide, room] of this.bars(this.data.room)) {
      const bare = room < -0.5;
      const tall = bare ? 3 * this.ratio : (Math.max(0, room) / most) * height;
      pen.fillStyle = this.colour(bare ? "--strip-weak" : "--strip-room");
      pen.fillRect(x, top + height - tall, wide, tall);
    }
    pen.globalAlpha = 1;
    this.label(pen, `room, up to ${Math.round(most)} px`, 4 * this.ratio, top + 7 * this.ratio, "--ink-2");
  }

  // Frames blurred by motion: a notch in the band of confidence.
  blurred(pen, height) {
    const r = this.ratio;
    pen.fillStyle = this.colour("--amber");
    this.data.blurred.forEach((is, i) => {
      if (!is) return;
      pen.beginPath();
      pen.moveTo(this.x(i) - 3.5 * r, height);
      pen.lineTo(this.x(i), height - 8 * r);
      pen.lineTo(this.x(i) + 3.5 * r, height);
      pen.fill();
    });
  }

  // The share that neighbours lend, hanging from the top.
  lent(pen, floor) {
    const r = this.ratio;
    const most = this.borrowed.reduce((a, b) => Math.max(a, b), 0);
    if (most <= 0) return;
    pen.fillStyle = this.colour("--amber");
    pen.globalAlpha = 0.5;
    this.borrowed.forEach((share, i) => pen.fillRect(this.x(i - 0.5), TOP * r, this.canvas.width / this.count + 1, (share / most) * 24 * r));
    pen.globalAlpha = 1;
    this.label(pen, `borrowed, up to ${(100 * most).toFixed(1)} %`, this.canvas.width - 170 * r, (TOP + 32) * r, "--amber");
  }

  // How surely the held point is known: a band above that of confidence, gone where it is lost.
  heldTrace(pen, height) {
    const r = this.ratio;
    for (const [x, wide, sure] of this.bars(this.held)) {
      pen.fillStyle = this.colour(sure > 0 ? "--buoy" : "--strip-weak");
      pen.globalAlpha = sure > 0 ? 0.9 : 0.5;
      const tall = (sure > 0 ? 5 * sure : 1.5) * r;
      pen.fillRect(x, height - SURE * r - tall - r, wide, tall);
    }
    pen.globalAlpha = 1;
  }

  // The keyframes under a pointer, by their frame; null if there are none.
  keyAt(event) {
    if (!this.data) return null;
    const { left, top, height } = this.canvas.getBoundingClientRect();
    const y = event.clientY - top;
    const row = height - (ROOM + SURE + 6) - 6; // where their diamonds are
    if (Math.abs(y - row) > 9) return null;
    const x = (event.clientX - left) * this.ratio;
    const near = this.data.keys.filter((at) => Math.abs(this.x(at) - x) < 7 * this.ratio);
    return near.length ? near.sort((a, b) => Math.abs(this.x(a) - x) - Math.abs(this.x(b) - x))[0] : null;
  }

  dragKey(from, to) {
    this.ghost = { from, to };
    this.draw();
  }

  keys(pen, floor) {
    const r = this.ratio;
    for (const frame of this.data.keys) {
      const at = this.ghost && this.ghost.from === frame ? this.ghost.to : frame;
      const x = this.x(at);
      pen.beginPath();
      pen.moveTo(x, floor - 11 * r);
      pen.lineTo(x + 5 * r, floor - 6 * r);
      pen.lineTo(x, floor - r);
      pen.lineTo(x - 5 * r, floor - 6 * r);
      pen.closePath();
      pen.fillStyle = this.colour("--paper");
      pen.strokeStyle = this.colour("--buoy");
      pen.lineWidth = 1.6 * r;
      pen.fill();
      pen.stroke();
    }
  }

  shade(pen, height) {
    const [first, last] = this.loop.map((at) => this.x(at));
    pen.fillStyle = this.colour("--ink");
    pen.globalAlpha = 0.16;
    pen.fillRect(0, 0, first, height);
    pen.fillRect(last, 0, this.canvas.width - last, height);
    pen.globalAlpha = 1;
  }

  flag(pen, x, height) {
    const r = this.ratio;
    const side = x > this.canvas.width - 90 * r ? -1 : 1;
    pen.fillStyle = pen.strokeStyle = this.colour("--strip-weak");
    pen.lineWidth = 1.2 * r;
    pen.beginPath();
    pen.moveTo(x, 0);
    pen.lineTo(x, height);
    pen.stroke();
    pen.beginPath();
    pen.moveTo(x, 1);
    pen.lineTo(x + side * 11 * r, 6 * r);
    pen.lineTo(x, 11 * r);
    pen.fill();
    pen.textAlign = side > 0 ? "left" : "right";
    this.label(pen, "tightest", x + side * 14 * r, 7 * r, "--amber");
    pen.textAlign = "left";
  }

  label(pen, text, x, y, colour) {
    pen.font = `${11 * this.ratio}px "IBM Plex Mono", monospace`;
    pen.textBaseline = "middle";
    pen.lineWidth = 3 * this.ratio;
    pen.strokeStyle = this.colour("--paper");
    pen.strokeText(text, x, y);
    pen.fillStyle = this.colour(colour);
    pen.fillText(text, x, y);
  }
}
