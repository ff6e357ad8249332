// The cost curve, drawn: picture kept across (dear to the right), shake left upwards.
import { drawn } from "../../lib/svg.js";

const LEFT = 34;
const RIGHT = 8;
const TOP = 8;
const BOTTOM = 26;

/** @typedef {{ calm: number, kept: number, shake: number }} Point */

/**
 * The calm at which a curve keeps this much, between the points that were solved.
 * @param {Point[]} points by rising calm
 * @param {number} kept percent
 */
export function calmAt(points, kept) {
  for (let i = 0; i < points.length - 1; i++) {
    const [less, more] = [points[i], points[i + 1]];
    if (kept > more.kept) {
      const share = Math.max(0, (less.kept - kept) / Math.max(1e-6, less.kept - more.kept));
      return Math.round(less.calm + Math.min(1, share) * (more.calm - less.calm));
    }
  }
  return points[points.length - 1].calm;
}

/**
 * From mark to mark of the scale, percent.
 * @param {number} lost most of the picture that is lost, percent
 */
function stepOf(lost) {
  if (lost > 25) return 10;
  if (lost > 10) return 5;
  return lost > 4 ? 2 : 1;
}

export class CostChart {
  /**
   * @param {SVGSVGElement} svg
   * @param {(calm: number, settled: boolean) => void} pick where along the curve the pointer drags
   */
  constructor(svg, pick) {
    this.svg = svg;
    /** @type {Point[]} */
    this.points = [];
    /** @type {{ calm: number, kept: string }[]} */
    this.starts = [];
    /** @type {{ name: string, kept: number, shake: number }[]} */
    this.versions = [];
    /** @type {{ kept: number, shake: number } | null} */
    this.now = null;
    /**
     * @param {PointerEvent} event
     * @param {boolean} settled
     */
    const follow = (event, settled) => {
      if (this.points.length < 2) return;
      const { left, width } = svg.getBoundingClientRect();
      pick(calmAt(this.points, this.kept(event.clientX - left, width)), settled);
    };
    svg.addEventListener("pointerdown", (event) => {
      if (event.button) return;
      svg.setPointerCapture(event.pointerId);
      follow(event, false);
    });
    svg.addEventListener("pointermove", (event) => {
      if (svg.hasPointerCapture(event.pointerId)) follow(event, false);
    });
    svg.addEventListener("pointerup", (event) => follow(event, true));
    new ResizeObserver(() => this.draw()).observe(svg);
  }

  /** @param {{ points: number[][], starts: any[], versions: any[] }} curve */
  set({ points, starts, versions }) {
    this.points = points.map(([calm, kept, shake]) => ({ calm, kept, shake }));
    this.starts = starts;
    this.versions = versions;
    this.draw();
  }

  /**
   * @param {number} kept
   * @param {number} shake
   */
  present(kept, shake) {
    this.now = { kept, shake };
    this.draw();
  }

  get least() {
    return Math.min(99, ...this.points.map((point) => point.kept), this.now?.kept ?? 100);
  }

  get most() {
    return Math.max(0.5, ...this.points.map((point) => point.shake), this.now?.shake ?? 0);
  }

  /**
   * @param {number} kept
   * @param {number} width
   */
  x(kept, width) {
    return LEFT + ((100 - kept) / (100 - this.least)) * (width - LEFT - RIGHT);
  }

  /**
   * @param {number} shake
   * @param {number} height
   */
  y(shake, height) {
    return height - BOTTOM - (shake / this.most) * (height - TOP - BOTTOM);
  }

  /**
   * @param {number} x
   * @param {number} width
   */
  kept(x, width) {
    return 100 - ((x - LEFT) / (width - LEFT - RIGHT)) * (100 - this.least);
  }

  draw() {
    const { clientWidth: width, clientHeight: height } = this.svg;
    if (!width || !height) return;
    this.svg.replaceChildren();
    if (this.points.length < 2) return;
    this.axes(width, height);
    /** @param {{ kept: number, shake: number }} one */
    const place = ({ kept, shake }) => [this.x(kept, width), this.y(shake, height)];
    const line = this.points.map((point) =>
      place(point)
        .map((v) => v.toFixed(1))
        .join(" "),
    );
    this.svg.append(drawn("path", { d: `M ${line.join(" L ")}`, class: "chart-line" }));
    const [nx, ny] = place(this.points[0]);
    this.mark("circle", { cx: nx, cy: ny, r: 3.5, class: "chart-nothing" }, "nothing removed");
    for (const start of this.starts) {
      const at = this.points.find((point) => point.calm === start.calm);
      if (!at) continue;
      const [x, y] = place(at);
      const d = `M ${x - 4.5} ${y + 9} h 9 l -4.5 -8 z`;
      this.mark("path", { d, class: "chart-start" }, start.kept);
    }
    for (const version of this.versions) {
      const [x, y] = place(version);
      const d = `M ${x} ${y - 5} l 5 5 l -5 5 l -5 -5 z`;
      this.mark("path", { d, class: "chart-version" }, version.name);
    }
    if (!this.now) return;
    const [x, y] = place(this.now);
    this.mark("circle", { cx: x, cy: y, r: 5, class: "chart-now" }, "as it is now");
  }

  /**
   * @param {string} kind
   * @param {Record<string, string | number>} attributes
   * @param {string} title
   */
  mark(kind, attributes, title) {
    this.svg.append(drawn(kind, attributes, "", title));
  }

  /**
   * @param {number} width
   * @param {number} height
   */
  axes(width, height) {
    const right = { x: width - RIGHT - 4, y: TOP + 12, "text-anchor": "end" };
    this.svg.append(drawn("text", right, "px of shake left"));
    const floor = height - BOTTOM;
    const step = stepOf(100 - this.least);
    for (let kept = 100; kept >= this.least - 1e-6; kept -= step) {
      const x = this.x(kept, width);
      this.svg.append(drawn("path", { d: `M ${x} ${TOP} V ${floor}`, class: "chart-tick" }));
      if (kept < 100 && x < LEFT + 76) continue; // the first label is there
      const end = kept === 100 ? "start" : x > width - 24 ? "end" : "middle";
      const at = { x: kept === 100 ? x - 4 : x, y: height - 4, "text-anchor": end };
      this.svg.append(drawn("text", at, `${kept}${kept === 100 ? " % kept" : ""}`));
    }
    for (const shake of [0, this.most]) {
      const y = this.y(shake, height);
      const d = `M ${LEFT} ${y} H ${width - RIGHT}`;
      const text = shake ? shake.toFixed(shake < 10 ? 1 : 0) : "0";
      this.svg.append(
        drawn("path", { d, class: "chart-tick" }),
        drawn("text", { x: LEFT - 7, y: y + 4, "text-anchor": "end" }, text),
      );
    }
  }
}
