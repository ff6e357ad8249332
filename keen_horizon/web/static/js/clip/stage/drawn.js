// What an answer of the server is drawn as, whatever the kind of clip.
import { picturesOf } from "./around.js";
import { Lattice } from "./lattice.js";

/**
 * @param {Answer} answer
 * @param {number} [from] frame of the range that its lattice counts from
 * @param {Parameters<typeof picturesOf>[1]} [set] what the page has the view of a sphere set to
 */
export function drawnOf({ sphere, lattice, report: { output } }, from = 0, set = null) {
  if (sphere) return picturesOf(sphere, set);
  return {
    treated: {
      lattice: Lattice.of(lattice, from),
      output: { ...output, aspect: output.pixel_aspect },
    },
    original: null,
    sphere: null,
    looks: () => 0,
  };
}
