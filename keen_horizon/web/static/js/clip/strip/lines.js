// Lines of one value a frame, and what is said of them.

/** @param {number} second */
export function secondsWords(second) {
  if (second < 60) return `${Math.round(10 * second) / 10} s`;
  return `${Math.floor(second / 60)}:${String(second % 60).padStart(2, "0")}`;
}

/**
 * The least and the greatest of some lines; spreading a long one would be too many arguments.
 * @param {Float32Array[]} lines
 */
export function extent(lines) {
  let low = Infinity;
  let high = -Infinity;
  for (const line of lines) {
    for (const value of line) {
      low = Math.min(low, value);
      high = Math.max(high, value);
    }
  }
  return [low, high];
}

/** @param {Float32Array} line */
export const span = (line) => {
  const [low, high] = extent([line]);
  return high - low;
};

/**
 * @param {Float32Array} line
 * @param {number} atLeast
 */
export const mostOf = (line, atLeast) => Math.max(atLeast, extent([line])[1]);
