// Places of the steadied picture, in percent of it, on the canvas and back. Only right where nothing
// else reshapes the picture on show.
import { unpack } from "../../lib/api.js";
import { live } from "../../clip/live.js";

/** @type {Answer | null} that the line is of */
let answer = null;
let line = new Float32Array([1, 0, 0]);

/**
 * Zoom of the frame on show against the picture as it fills the output at 1, and where its centre
 * lies.
 * @param {ClipStore} clip
 */
export function viewNow(clip) {
  if (clip.answer !== answer) {
    answer = clip.answer;
    line = answer ? unpack(answer.strip.view) : new Float32Array([1, 0, 0]);
  }
  const first = answer ? answer.first - clip.first : 0;
  const at = 3 * Math.max(0, Math.min(line.length / 3 - 1, clip.at - first));
  return line.subarray(at, at + 3);
}

/**
 * @param {ClipStore} clip
 * @param {Part} part
 * @param {number} x percent
 * @param {number} y
 * @returns {Spot}
 */
export function planeSpot(clip, { box }, x, y) {
  const [zoom, across, down] = viewNow(clip);
  const u = 0.5 + (x / 100 - 0.5 - across) * zoom;
  const v = 0.5 + (y / 100 - 0.5 - down) * zoom;
  return [box.left + u * box.width, box.top + v * box.height];
}

/**
 * @param {ClipStore} clip
 * @param {Spot} spot
 * @returns {[number, number]} percent
 */
export function planeAt(clip, spot) {
  const { box } = live.stage.partAt(spot);
  const [zoom, across, down] = viewNow(clip);
  /**
   * @param {number} at
   * @param {number} low
   * @param {number} size
   * @param {number} off
   */
  const share = (at, low, size, off) => 100 * (((at - low) / size - 0.5) / zoom + 0.5 + off);
  return [share(spot[0], box.left, box.width, across), share(spot[1], box.top, box.height, down)];
}

/** @param {number} value */
export const round = (value) => Math.round(value * 100) / 100;
