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
 * @param {Record<string, any> | null} [glass] settings of its glass, if anything is known of it
 */
export function adoptLens(clip, found, settled = true, glass = null) {
  if (!clip.treatment) return;
  if (glass) clip.adopt("glass", { ...glass, on: true }, false);
  letItTurn(clip.treatment, found.model);
  clip.adopt("lens", { ...found, on: true }, settled);
}
