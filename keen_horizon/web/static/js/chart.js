// The cost curve, drawn: picture kept across (dear to the right), shake left upwards.

const LEFT = 34;
const RIGHT = 8;
const TOP = 8;
const BOTTOM = 20;
const SVG = "http://www.w3.org/2000/svg";

export class Chart {
  // `pick(calm, settled)` is told where along the curve the pointer drags.
  constructor(svg, pick) {
    this.svg = svg;
    this.points = [];
    this.starts = [];
    this.versions = [];
    this.now = null;
    const follow = (event, settled) => {
      if (this.points.length < 2) return;
      const { left, width } = svg.getBoundingClientRect();
      pick(this.calmAt(this.kept(event.clientX - left, width)), settled);
    };
    svg.addEventListener("pointerdown", (event) => {
      svg.setPointerCapture(event.pointerId);
      follow(event, false);
    });
    svg.addEventListener("pointermove", (event) => {
      if (event.buttons & 1) follow(event, false);
    });
    svg.addEventListener("pointerup", (event) => follow(event, true));
    new ResizeObserver(() => this.draw()).observe(svg);
  }

  set({ points, starts, versions }) {
    this.points = points.map(([calm, kept, shake]) => ({ calm, kept, shake }));
    this.starts = starts;
    this.versions = versions;
    this.draw();
  }

  present(kept, shake) {
    this.now = { kept, shake };
    this.draw();
  }

  get least() {
    return Math.min(99, ...this.points.map((point) => point.kept), this.now ? this.now.kept : 100);
  }

  get most() {
    return Math.max(0.5, ...this.points.map((point) => point.shake), this.now ? this.now.shake : 0);
  }

  x(kept, width) {
    return LEFT + ((100 - kept) / (100 - this.least)) * (width - LEFT - RIGHT);
  }

  y(shake, height) {
    return height - BOTTOM - (shake / this.most) * (height - TOP - BOTTOM);
  }

  kept(x, width) {
    return 100 - ((x - LEFT) / (width - LEFT - RIGHT)) * (100 - this.least);
  }

  // The calm at which the curve keeps this much, between the points that were solved.
  calmAt(kept) {
    const last = this.points.length - 1;
    for (let i = 0; i < last; i++) {
      const [less, more] = [this.points[i], this.points[i + 1]];
      if (kept > more.kept) {
        const share = Math.max(0, (less.kept - kept) / Math.max(1e-6, less.kept - more.kept));
        return Math.round(less.calm + Math.min(1, share) * (more.calm - less.calm));
      }
    }
    return this.points[last].calm;
  }

  draw() {
    const { clientWidth: width, clientHeight: height } = this.svg;
    if (!width || !height) return;
    this.svg.replaceChildren();
    if (this.points.length < 2) return;
    this.axes(width, height);
    const place = ({ kept, shake }) => [this.x(kept, width), this.y(shake, height)];
    const line = this.points.map((point) => place(point).map((value) => value.toFixed(1)).join(" ")).join(" L ");
    this.add("path", { d: `M ${line}`, class: "chart-line" });
    const [nx, ny] = place(this.points[0]);
    this.add("circle", { cx: nx, cy: ny, r: 3.5, class: "chart-nothing" }, "nothing removed");
    for (const start of this.starts) {
      const at = this.points.find((point) => point.calm === start.calm);
      if (!at) continue;
      const [x, y] = place(at);
      this.add("path", { d: `M ${x - 4.5} ${y + 9} h 9 l -4.5 -8 z`, class: "chart-start" }, start.kept);
    }
    for (const version of this.versions) {
      const [x, y] = place(version);
      this.add("path", { d: `M ${x} ${y - 5} l 5 5 l -5 5 l -5 -5 z`, class: "chart-version" }, version.name);
    }
    if (this.now) {
      const [x, y] = place(this.now);
      this.add("circle", { cx: x, cy: y, r: 5, class: "chart-now" }, "as it is now");
    }
  }

  axes(width, height) {
    this.add("text", { x: width - RIGHT - 4, y: TOP + 12, "text-anchor": "end" }, "", "px of shake left");
    const floor = height - BOTTOM;
    const step = 100 - this.least > 25 ? 10 : 100 - this.least > 10 ? 5 : 100 - this.least > 4 ? 2 : 1;
    for (let kept = 100; kept >= this.least - 1e-6; kept -= step) {
      const x = this.x(kept, width);
      this.add("path", { d: `M ${x} ${TOP} V ${floor}`, class: "chart-tick" });
      if (kept < 100 && x < LEFT + 76) continue; // the first label is there
      const end = kept === 100 ? "start" : x > width - 24 ? "end" : "middle";
      this.add("text", { x: kept === 100 ? x - 4 : x, y: height - 6, "text-anchor": end }, "", `${kept}${kept === 100 ? " % kept" : ""}`);
    }
    for (const shake of [0, this.most]) {
      const y = this.y(shake, height);
      this.add("path", { d: `M ${LEFT} ${y} H ${width - RIGHT}`, class: "chart-tick" });
      this.add("text", { x: LEFT - 4, y: y + 4, "text-anchor": "end" }, "", shake ? shake.toFixed(shake < 10 ? 1 : 0) : "0");
    }
  }

  add(kind, attributes, title = "", text = "") {
    const node = document.createElementNS(SVG, kind);
    for (const [name, value] of Object.entries(attributes)) node.setAttribute(name, value);
    if (text) node.textContent = text;
    if (title) node.appendChild(document.createElementNS(SVG, "title")).textContent = title;
    this.svg.appendChild(node);
  }
}
