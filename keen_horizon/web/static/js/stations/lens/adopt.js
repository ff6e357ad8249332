// A lens that was found takes the place of the one before.

/**
 * A lens that is known lets the camera's motion be a turn, which explains a wide picture best.
 * @param {Treatment} treatment
 * @param {string} model of the lens that is to come
 */
export function letItTurn({ lens, motion }, model) {
  const first = lens.model === "rectilinear" && model !== "rectilinear";
  if (first && motion.model === "similarity") motion.model = "rotation";
}

/**
 * @param {ClipStore} clip
 * @param {Record<string, any>} found settings of the lens
 * @param {boolean} [settled]
 */
export function adoptLens(clip, found, settled = true) {
  if (!clip.treatment) return;
  letItTurn(clip.treatment, found.model);
  clip.adopt("lens", { ...found, on: true }, settled);
}
