// What is drawn over pictures out of spheres: curves of rays, the horizon, uprights, the cone below.
import { label, outlined } from "./ink.js";

/** @typedef {import("./around.js").Around} Around */
/** @typedef {import("./around.js").Ray} Ray */

const STEPS = 96;
const UPRIGHTS = 8; // lines that run straight up, around the sphere

/**
 * A curve of rays of the steadied sphere over a part; broken where it leaves the picture, or goes
 * over the seam.
 * @param {Pen} pen
 * @param {Part} part
 * @param {Ray[]} rays
 * @param {{ at: number, ratio: number, width: number, dash?: number[] }} how `at` a frame of the
 *   range
 */
export function drawCurve(pen, part, rays, { at, ...how }) {
  const { box } = part;
  const placed = /** @type {Around} */ (part.lattice).placing(at);
  pen.save();
  pen.beginPath();
  pen.rect(box.left, box.top, box.width, box.height);
  pen.clip();
  pen.beginPath();
  /** @type {Spot | null} */
  let last = null;
  for (const ray of rays) {
    const [u, v] = placed(ray);
    /** @type {Spot} */
    const spot = [box.left + u * box.width, box.top + v * box.height];
    const seen = Math.abs(u - 0.5) < 2 && Math.abs(v - 0.5) < 2;
    const near = last && Math.hypot(spot[0] - last[0], spot[1] - last[1]) < box.width / 4;
    if (seen && near) pen.lineTo(...spot);
    else if (seen) pen.moveTo(...spot);
    last = seen ? spot : null;
  }
  outlined(pen, how);
  pen.restore();
}

/**
 * Rays at a height, all around; degrees below the horizon.
 * @param {number} below
 * @returns {Ray[]}
 */
function circle(below) {
  const lat = (below * Math.PI) / 180;
  return Array.from({ length: STEPS + 1 }, (_, k) => {
    const lon = (2 * Math.PI * k) / STEPS - Math.PI;
    return [Math.sin(lon) * Math.cos(lat), Math.sin(lat), Math.cos(lon) * Math.cos(lat)];
  });
}

/**
 * Rays straight up at an azimuth, within 60 degrees of the horizon.
 * @param {number} lon radians
 * @returns {Ray[]}
 */
const upright = (lon) =>
  Array.from({ length: 25 }, (_, k) => {
    const lat = ((5 * k - 60) * Math.PI) / 180;
    return [Math.sin(lon) * Math.cos(lat), Math.sin(lat), Math.cos(lon) * Math.cos(lat)];
  });

/**
 * The horizon and uprights of what comes out, and the cone below the camera that does not steer.
 * @param {Pen} pen
 * @param {Part} part
 * @param {{ at: number, nadir: number, ratio: number, turned: (ray: Ray) => Ray }} how `turned`
 *   takes the recorded sphere's rays to the steadied one's
 */
export function drawAround(pen, part, { at, nadir, ratio, turned }) {
  drawCurve(pen, part, circle(0), { at, ratio, width: 1.6 });
  for (let k = 0; k < UPRIGHTS; k++) {
    const lon = (2 * Math.PI * (k + 0.5)) / UPRIGHTS - Math.PI;
    drawCurve(pen, part, upright(lon), { at, ratio, width: 0.8, dash: [2, 6] });
  }
  if (nadir > 0) {
    const cone = circle(90 - nadir).map(turned);
    drawCurve(pen, part, cone, { at, ratio, width: 1.2, dash: [6, 4] });
    const [u, v] = /** @type {Around} */ (part.lattice).placing(at)(cone[STEPS / 2]);
    if (u > 0.02 && u < 0.98 && v > 0.02 && v < 0.98) {
      const { box } = part;
      const spot = /** @type {Spot} */ ([box.left + u * box.width, box.top + v * box.height]);
      label(pen, "does not steer", [spot[0], spot[1] + 12 * ratio], ratio, "center");
    }
  }
}
