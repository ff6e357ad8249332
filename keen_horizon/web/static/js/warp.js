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

  // Where in the output source position (x, y) lands: by Newton's method, exact where the warp is
  // a similarity. A place that the warp never reaches comes out far away.
  unmap(n, x, y) {
    const nodes = this.frame(n);
    const along = 2 * (this.columns - 1);
    const down = this.stride - 2 * this.columns;
    const middle = this.map(n, 0.5, 0.5);
    let [ax, ay] = [nodes[along] - nodes[0], nodes[along + 1] - nodes[1]];
    let [bx, by] = [nodes[down] - nodes[0], nodes[down + 1] - nodes[1]];
    let [u, v, mx, my] = [0.5, 0.5, ...middle];
    if (this.stride === 8) [u, v, mx, my] = [0, 0, nodes[0], nodes[1]];
    const rounds = this.stride === 8 ? 1 : 9;
    for (let i = 0; i < rounds; i++) {
      const area = ax * by - ay * bx || 1e-9;
      const most = i < 3 ? 0.35 : 2;
      const bound = (value) => (rounds === 1 ? value : Math.max(-most, Math.min(most, value)));
      u += bound(((x - mx) * by - (y - my) * bx) / area);
      v += bound(((y - my) * ax - (x - mx) * ay) / area);
      if (i === rounds - 1) break;
      [mx, my] = this.map(n, u, v);
      const step = 1e-3;
      const [rx, ry] = this.map(n, u + step, v);
      const [dx, dy] = this.map(n, u, v + step);
      [ax, ay, bx, by] = [(rx - mx) / step, (ry - my) / step, (dx - mx) / step, (dy - my) / step];
    }
    return [u, v];
  }
}

export const straight = new Lattice(2, 2, new Float32Array([0, 0, 1, 0, 0, 1, 1, 1]));
