// Curves over the distance from a middle, to the corner.
import { drawn } from "./svg.js";

const [LEFT, RIGHT, TOP, FLOOR] = [34, 234, 12, 78];

/** @typedef {{ points: (number | null)[][], kind?: string }} RadialCurve how far out, percent, and
 *   the value there, if there is one; `kind` is a class of its own */

/**
 * @param {Element} curve an SVG of 240 by 90
 * @param {RadialCurve[]} curves
 * @param {{ least: number, named: (high: number) => string, middle: string }} how the scale reaches
 *   `least` at least; `named` says its upper end
 */
export function drawRadialCurves(curve, curves, { least, named, middle }) {
  const known = curves.flatMap(({ points }) =>
    points.flatMap(([, value]) => (value === null ? [] : [value])),
  );
  const high = Math.max(least, ...known);
  const low = Math.min(0, ...known);
  /** @param {number} value */
  const y = (value) => FLOOR - ((value - low) / (high - low)) * (FLOOR - TOP);
  /** @param {number} away */
  const x = (away) => LEFT + (away / 100) * (RIGHT - LEFT);
  const lines = curves.map(({ points, kind }) => {
    let path = "";
    for (const [away, value] of points) {
      if (away === null || value === null) continue;
      path += `${path ? "L" : "M"}${x(away).toFixed(1)} ${y(value).toFixed(1)}`;
    }
    return drawn("path", { class: `curve-line ${kind ?? ""}`, d: path });
  });
  const scale = { x: LEFT - 4, "text-anchor": "end" };
  curve.replaceChildren(
    drawn("line", { class: "curve-zero", x1: LEFT, x2: RIGHT, y1: y(0), y2: y(0) }),
    ...lines,
    drawn("text", { ...scale, y: y(high) + 4 }, named(high)),
    drawn("text", { ...scale, y: y(0) + 4 }, "0"),
    drawn("text", { x: RIGHT, y: FLOOR + 11, "text-anchor": "end" }, "corner"),
    drawn("text", { x: LEFT, y: FLOOR + 11 }, middle),
  );
}
