// The parts of the clip screen that draw, play and take hold. Kept outside Alpine: they are no page
// state, and need no watching.

/**
 * @type {{
 *   clock: import("./clock.js").Clock,
 *   stage: import("./stage/stage.js").Stage,
 *   strip: import("./strip/strip.js").Strip,
 *   pointer: import("./stage/pointer.js").Pointer,
 * }}
 */
// @ts-expect-error they are there once the page is
export const live = { clock: null, stage: null, strip: null, pointer: null };
