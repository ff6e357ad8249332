// The stage and the strip of the clip screen. Kept outside Alpine: they are no page state, and need
// no watching.
export const parts = { stage: null, strip: null };
