// A point that is to be followed, placed on the picture.
import { live } from "../live.js";

const BOX = { pattern: 0.08, search: 0.08 }; // shares of the height

/** @param {number} value */
const round = (value) => Math.round(value * 1e5) / 1e5;

/**
 * The place of the source under a place on the canvas, as treatments keep it.
 * @param {Spot} spot
 */
export const placeAt = (spot) => /** @type {Place} */ (live.stage.sourceAt(spot).map(round));

/**
 * A point at a place on the canvas, in the frame on show.
 * @param {Spot} spot
 * @returns {HeldPoint}
 */
export const pointAt = (spot) => ({
  frame: live.clock.frame,
  at: placeAt(spot),
  ...BOX,
  again: [],
});
