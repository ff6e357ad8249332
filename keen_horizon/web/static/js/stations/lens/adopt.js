// A lens that was found takes the place of the one before.

/**
 * A lens that is known lets the camera's motion be a turn, which explains a wide picture best.
 * @param {ClipStore} clip
 * @param {Record<string, any>} found settings of the lens
 * @param {boolean} [settled]
 */
export function adoptLens(clip, found, settled = true) {
  const { treatment } = clip;
  if (!treatment) return;
  const { lens, motion } = treatment;
  const first = lens.model === "rectilinear" && found.model !== "rectilinear";
  if (first && motion.model === "similarity") motion.model = "rotation";
  clip.adopt("lens", { ...found, on: true }, settled);
}
