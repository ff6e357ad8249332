// The warp chain's lattice in the browser: sampled, never composed. The server decides.
// Output positions and source positions are shares (0..1) of their picture's outer size.
import { unpack } from "../../lib/api.js";

const ROUNDS = 9; // of Newton's method where the warp bends

export class Lattice {
  /**
   * @param {number} columns
   * @param {number} rows
   * @param {Float32Array} nodes frames x rows x columns x 2, from frame `start` of the range on
   * @param {number} start
   */
  constructor(columns, rows, nodes, start = 0) {
    this.columns = columns;
    this.rows = rows;
    this.nodes = nodes;
    this.start = start;
    this.stride = columns * rows * 2;
  }

  /**
   * @param {PackedLattice} packed
   * @param {number} from frame of the range that its frames count from
   */
  static of({ columns, rows, nodes, start }, from = 0) {
    return new Lattice(columns, rows, unpack(nodes), start + from);
  }

  get length() {
    return this.nodes.length / this.stride;
  }

  /** @param {number} n */
  holds(n) {
    return n >= this.start && n < this.start + this.length;
  }

  /**
   * The nodes of a frame of the range, or of the nearest that is there.
   * @param {number} n
   */
  frame(n) {
    const at = Math.max(0, Math.min(this.length - 1, n - this.start)) * this.stride;
    return this.nodes.subarray(at, at + this.stride);
  }

  /**
   * Where in the source output position (u, v) of frame n comes from.
   * @param {number} n
   * @param {number} u
   * @param {number} v
   * @returns {[number, number]}
   */
  map(n, u, v) {
    const nodes = this.frame(n);
    const x = u * (this.columns - 1);
    const y = v * (this.rows - 1);
    const i = Math.max(0, Math.min(this.columns - 2, Math.floor(x)));
    const j = Math.max(0, Math.min(this.rows - 2, Math.floor(y)));
    const a = x - i;
    const b = y - j;
    /**
     * @param {number} c
     * @param {number} r
     * @param {number} k
     */
    const at = (c, r, k) => nodes[2 * ((j + r) * this.columns + i + c) + k];
    /** @param {number} k */
    const mixed = (k) =>
      (at(0, 0, k) * (1 - a) + at(1, 0, k) * a) * (1 - b) +
      (at(0, 1, k) * (1 - a) + at(1, 1, k) * a) * b;
    return [mixed(0), mixed(1)];
  }

  /**
   * Where in the output source position (x, y) lands: by Newton's method, exact where the warp is a
   * similarity. A place that the warp never reaches comes out far away.
   * @param {number} n
   * @param {number} x
   * @param {number} y
   * @returns {[number, number]}
   */
  unmap(n, x, y) {
    const nodes = this.frame(n);
    const along = 2 * (this.columns - 1);
    const down = this.stride - 2 * this.columns;
    let [ax, ay] = [nodes[along] - nodes[0], nodes[along + 1] - nodes[1]];
    let [bx, by] = [nodes[down] - nodes[0], nodes[down + 1] - nodes[1]];
    const plane = this.stride === 8;
    let [u, v] = plane ? [0, 0] : [0.5, 0.5];
    let [mx, my] = plane ? [nodes[0], nodes[1]] : this.map(n, 0.5, 0.5);
    const rounds = plane ? 1 : ROUNDS;
    for (let i = 0; i < rounds; i++) {
      const area = ax * by - ay * bx || 1e-9;
      const most = plane ? Infinity : i < 3 ? 0.35 : 2;
      u += within(((x - mx) * by - (y - my) * bx) / area, most);
      v += within(((y - my) * ax - (x - mx) * ay) / area, most);
      if (i === rounds - 1) break;
      [mx, my] = this.map(n, u, v);
      const step = 1e-3;
      const [rx, ry] = this.map(n, u + step, v);
      const [dx, dy] = this.map(n, u, v + step);
      [ax, ay] = [(rx - mx) / step, (ry - my) / step];
      [bx, by] = [(dx - mx) / step, (dy - my) / step];
    }
    return [u, v];
  }
}

/**
 * @param {number} value
 * @param {number} most
 */
const within = (value, most) => Math.max(-most, Math.min(most, value));

/** The source as it is. */
export const straight = new Lattice(2, 2, new Float32Array([0, 0, 1, 0, 0, 1, 1, 1]));
