// Where a picture out of a sphere comes from, at the nodes of a mesh. Between them it goes on
// straight, which a computer without a graphics card draws in a third of the time that each pixel's
// own ray takes; cells where that would be seen, about the sphere's poles and where the picture
// reaches far around, are left to be told pixel by pixel.

/** @typedef {import("./around.js").Around} Around */
/**
 * @typedef {{ key: string, columns: number, rows: number, rays: Float64Array, sizes: Float64Array }}
 *   Grid rays of a camera's picture at nodes, and the square of each cell's size, radians
 */
/**
 * @typedef {object} Woven
 * @property {number} columns of nodes
 * @property {number} rows
 * @property {Float32Array} places that nodes come from, in shares of the film's picture; in shares
 *   of the sphere, and on beyond its sides, where the picture goes over its seam
 * @property {boolean} wraps whether it does
 * @property {Uint16Array} even triangles, by their corners, that may be drawn straight
 * @property {Uint16Array} rest and those that may not
 */

/** @type {[number, number][]} columns and rows, from which the first one that is fine enough is taken */
const MESHES = [
  [33, 19],
  [49, 28],
  [65, 37],
  [97, 55],
  [193, 97],
];
const FINEST = MESHES[MESHES.length - 1];
const USUAL = 2; // times as much as about the equator is what curves in most cells at the most
const OFF = 0.25; // px of the film's picture that a place may be off by, about
const KEPT = 4; // grids
const APART = 0.16; // of a turn between corners of a cell, beyond which it holds a pole
const TURN = 2 * Math.PI;

export class AroundMesh {
  /** @type {Grid[]} the last ones that were asked for */
  grids = [];

  /**
   * @param {Around} around
   * @param {number} n frame of the range
   * @param {number} unit px of the film's picture of a radian
   * @returns {Woven}
   */
  weave(around, n, unit) {
    const most = (8 * OFF) / unit;
    const { columns, rows, rays, sizes } = this.grid(around, n, most / USUAL);
    const turn = around.whole(n);
    const bend = around.bend?.(n);
    const places = new Float32Array(2 * columns * rows);
    const steep = new Float64Array(columns * rows);
    for (let k = 0; k < columns * rows; k++) {
      const [rx, ry, rz] = [rays[3 * k], rays[3 * k + 1], rays[3 * k + 2]];
      let x = turn[0] * rx + turn[1] * ry + turn[2] * rz;
      let y = turn[3] * rx + turn[4] * ry + turn[5] * rz;
      let z = turn[6] * rx + turn[7] * ry + turn[8] * rz;
      if (bend) [x, y, z] = bent(bend, around.meets, x, y, z);
      const level = Math.sqrt(x * x + z * z);
      const before = k % columns ? k - 1 : k - columns;
      const across = Math.atan2(x, z) / TURN + 0.5;
      places[2 * k] = before < 0 ? across : across + Math.round(places[2 * before] - across);
      places[2 * k + 1] = Math.atan2(y, level) / Math.PI + 0.5;
      steep[k] = 1 + Math.abs(y) / Math.max(level, 1e-9);
    }
    const [even, rest] = this.sorted({ columns, rows, places, steep, sizes }, most);
    const wraps = !withinSphere(places);
    if (!wraps) putInto(places, around.eye);
    return { columns, rows, places, wraps, even, rest };
  }

  /**
   * The triangles of cells that may be drawn straight, and of those that may not.
   * @param {{ columns: number, rows: number, places: Float32Array, steep: Float64Array,
   *   sizes: Float64Array }} nodes
   * @param {number} most that the square of a cell's size may be, where nothing is steep
   */
  sorted({ columns, rows, places, steep, sizes }, most) {
    const cells = [new Uint16Array(6 * columns * rows), new Uint16Array(6 * columns * rows)];
    const filled = [0, 0];
    for (let a = 0; a + columns + 1 < columns * rows; a++) {
      if ((a + 1) % columns === 0) continue;
      const [b, c, d] = [a + 1, a + columns, a + columns + 1];
      const [pa, pb, pc, pd] = [places[2 * a], places[2 * b], places[2 * c], places[2 * d]];
      const apart = Math.max(pa, pb, pc, pd) - Math.min(pa, pb, pc, pd);
      const curved = sizes[a] * Math.max(steep[a], steep[b], steep[c], steep[d]);
      const kind = apart < APART && curved < most ? 0 : 1;
      cells[kind].set([a, b, c, c, b, d], filled[kind]);
      filled[kind] += 6;
    }
    return cells.map((list, kind) => list.subarray(0, filled[kind]));
  }

  /**
   * @param {Around} around
   * @param {number} n
   * @param {number} most that the square of a cell's size may be
   */
  grid(around, n, most) {
    const { projection, width, height, angle } = around.camera(n);
    const key = [projection, width, height, angle, most].join();
    const known = this.grids.find((one) => one.key === key);
    if (known) return known;
    const rayAt = around.looking(n);
    const coarse = gridOf(rayAt, key, ...MESHES[0]);
    // With so many times as many columns, cells are so many times as small.
    const [sparse] = MESHES[0];
    const times = Math.sqrt(Math.max(...coarse.sizes) / most);
    const finer = MESHES.find(([columns]) => columns - 1 >= times * (sparse - 1)) ?? FINEST;
    const made = finer === MESHES[0] ? coarse : gridOf(rayAt, key, ...finer);
    this.grids = [made, ...this.grids].slice(0, KEPT);
    return made;
  }
}

/**
 * Whether a picture stays on one side of the sphere's seam; its places are then between 0 and 1.
 * @param {Float32Array} places x and y, changed
 */
function withinSphere(places) {
  let [low, high] = [Infinity, -Infinity];
  for (let k = 0; k < places.length; k += 2) {
    low = Math.min(low, places[k]);
    high = Math.max(high, places[k]);
  }
  const whole = Math.floor(low);
  if (high > whole + 1) return false;
  for (let k = 0; k < places.length; k += 2) places[k] -= whole;
  return true;
}

/**
 * Shares of the sphere become shares of the film's picture.
 * @param {Float32Array} places x and y, changed
 * @param {number[]} eye left, top, width and height of the sphere in the picture
 */
function putInto(places, [left, top, width, height]) {
  for (let k = 0; k < places.length; k += 2) {
    places[k] = left + width * places[k];
    places[k + 1] = top + height * places[k + 1];
  }
}

/**
 * @param {(u: number, v: number) => number[]} rayAt
 * @param {string} key
 * @param {number} columns
 * @param {number} rows
 * @returns {Grid}
 */
function gridOf(rayAt, key, columns, rows) {
  const rays = new Float64Array(3 * columns * rows);
  for (let k = 0; k < columns * rows; k++) {
    const [i, j] = [k % columns, Math.floor(k / columns)];
    const ray = rayAt(i / (columns - 1), j / (rows - 1));
    const length = Math.hypot(...ray);
    rays.set(
      ray.map((value) => value / length),
      3 * k,
    );
  }
  const sizes = new Float64Array(columns * rows);
  for (let k = 0; k + columns + 1 < columns * rows; k++) {
    if ((k + 1) % columns === 0) continue; // the end of a row
    const across = apartSquared(rays, k, k + 1) + apartSquared(rays, k, k + columns);
    const below = apartSquared(rays, k + columns, k + columns + 1);
    sizes[k] = Math.max(across, below);
  }
  return { key, columns, rows, rays, sizes };
}

/**
 * @param {Float64Array} rays
 * @param {number} a
 * @param {number} b
 */
function apartSquared(rays, a, b) {
  let sum = 0;
  for (let k = 0; k < 3; k++) sum += (rays[3 * a + k] - rays[3 * b + k]) ** 2;
  return sum;
}

/**
 * A unit ray by what stitching bends it.
 * @param {number[]} bend
 * @param {number} meets
 * @param {number} x
 * @param {number} y
 * @param {number} z
 */
function bent(bend, meets, x, y, z) {
  const [sx, sy, sz, tx, ty, tz, hx, hy, hz] = [0, 3, 6, 9, 12, 15, 18, 21, 24].map(
    (k) => bend[k] * x + bend[k + 1] * y + bend[k + 2] * z,
  );
  const out = sx * x + sy * y + sz * z;
  const share = Math.max(-1, Math.min(1, -z / meets));
  const half = (share * (3 - share * share)) / 2;
  return [
    x + sx - out * x + y * tz - z * ty + half * hx,
    y + sy - out * y + z * tx - x * tz + half * hy,
    z + sz - out * z + x * ty - y * tx + half * hz,
  ];
}
