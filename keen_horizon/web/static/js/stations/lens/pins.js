// Pins of a traced edge.

/**
 * @param {[number, number]} a
 * @param {[number, number]} b
 */
export const apart = (a, b) => Math.hypot(a[0] - b[0], a[1] - b[1]);

/**
 * The pins of a trace with one more, in order along the way from the first to the last. One that
 * lies at an end takes its place; one close to another, too.
 * @param {Place[]} pins
 * @param {Place} at
 * @returns {Place[]}
 */
export function withPin(pins, at) {
  const first = pins[0];
  const last = pins[pins.length - 1];
  const length = apart(first, last) ** 2 || 1;
  /** @param {Place} place */
  const along = ([x, y]) =>
    ((x - first[0]) * (last[0] - first[0]) + (y - first[1]) * (last[1] - first[1])) / length;
  const here = along(at);
  if (here <= 0.06) return [at, ...pins.slice(1)];
  if (here >= 0.94) return [...pins.slice(0, -1), at];
  const others = pins.slice(1, -1).filter((pin) => Math.abs(along(pin) - here) > 0.08);
  const between = [...others.slice(0, 8), at].sort((a, b) => along(a) - along(b));
  return [first, ...between, last];
}

/**
 * @param {Place[]} pins
 * @returns {Place[]}
 */
export const roundedPins = (pins) =>
  pins.map(([x, y]) => [Math.round(x * 1e6) / 1e6, Math.round(y * 1e6) / 1e6]);
