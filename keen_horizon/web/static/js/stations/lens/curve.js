// The lens' radial displacement, drawn against the distance from its centre.
import { component } from "../../lib/component.js";
import { drawn } from "../../lib/svg.js";

const [LEFT, RIGHT, TOP, FLOOR] = [34, 234, 12, 78];
const LEAST = 2; // percent that the scale reaches at least

component("lensCurve", () => ({
  init() {
    const { clip } = this.$store;
    window.Alpine.effect(() => this.draw(clip.answer?.displacement ?? null));
  },

  /** @param {Answer["displacement"]} displacement */
  draw(displacement) {
    const curve = this.$root;
    curve.replaceChildren();
    if (!displacement) return;
    const known = displacement.moved.filter((value) => value !== null);
    const high = Math.max(LEAST, ...known);
    const low = Math.min(0, ...known);
    /** @param {number} value */
    const y = (value) => FLOOR - ((value - low) / (high - low)) * (FLOOR - TOP);
    /** @param {number} away */
    const x = (away) => LEFT + (away / 100) * (RIGHT - LEFT);
    let path = "";
    displacement.away.forEach((away, i) => {
      const value = displacement.moved[i];
      if (value === null) return;
      path += `${path ? "L" : "M"}${x(away).toFixed(1)} ${y(value).toFixed(1)}`;
    });
    const scale = { x: LEFT - 4, "text-anchor": "end" };
    curve.append(
      drawn("line", { class: "curve-zero", x1: LEFT, x2: RIGHT, y1: y(0), y2: y(0) }),
      drawn("path", { class: "curve-line", d: path }),
      drawn("text", { ...scale, y: y(high) + 4 }, `${high.toFixed(0)} %`),
      drawn("text", { ...scale, y: y(0) + 4 }, "0"),
      drawn("text", { x: RIGHT, y: FLOOR + 11, "text-anchor": "end" }, "corner"),
      drawn("text", { x: LEFT, y: FLOOR + 11 }, "centre"),
    );
  },
}));
