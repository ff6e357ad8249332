// The warp chain's lattice in the browser: sampled, never composed. The server decides.
// Output positions and source positions are shares (0..1) of their picture's outer size.

export class Lattice {
  // nodes: Float32Array, frames x rows x columns x 2, from frame `start` on.
  constructor(columns, rows, nodes, start = 0) {
    Object.assign(this, { columns, rows, nodes, start, stride: columns * rows * 2 });
  }

  holds(n) {
    return n >= this.start && n < this.start + this.length;
  }

  get length() {
    return this.nodes.length / this.stride;
  }

  frame(n) {
    const at = Math.max(0, Math.min(this.length - 1, n - this.start)) * this.stride;
    return this.nodes.subarray(at, at + this.stride);
  }

  // Where in the source output position (u, v) of frame n comes from.
  map(n, u, v) {
    const nodes = this.frame(n);
    const x = u * (this.columns - 1);
    const y = v * (this.rows - 1);
    const i = Math.max(0, Math.min(this.columns - 2, Math.floor(x)));
    const j = Math.max(0, Math.min(this.rows - 2, Math.floor(y)));
    const a = x - i;
    const b = y - j;
    const at = (c, r, k) => nodes[2 * ((j + r) * this.columns + i + c) + k];
    return [0, 1].map((k) => (at(0, 0, k) * (1 - a) + at(1, 0, k) * a) * (1 - b) + (at(0, 1, k) * (1 - a) + at(1, 1, k) * a) * b);
  }

  // Where in the output source position (x, y) lands: exact for two by two nodes, fixed-point for
  // maps that are nearly straight.
  unmap(n, x, y) {
    const nodes = this.frame(n);
    const last = this.stride - 2;
    const along = 2 * (this.columns - 1);
    const down = this.stride - 2 * this.columns;
    const [x0, y0] = [nodes[0], nodes[1]];
    const [ax, ay] = [nodes[along] - x0, nodes[along + 1] - y0];
    const [bx, by] = [nodes[down] - x0, nodes[down + 1] - y0];
    const area = ax * by - ay * bx || 1;
    let u = ((x - x0) * by - (y - y0) * bx) / area;
    let v = ((y - y0) * ax - (x - x0) * ay) / area;
    if (last === 6) return [u, v];
    for (let i = 0; i < 5; i++) {
      const [mx, my] = this.map(n, u, v);
      u += ((x - mx) * by - (y - my) * bx) / area;
      v += ((y - my) * ax - (x - mx) * ay) / area;
    }
    return [u, v];
  }
}

export const straight = new Lattice(2, 2, new Float32Array([0, 0, 1, 0, 0, 1, 1, 1]));
