// The triangles between the nodes of a lattice, on the graphics card: places in the output, which
// are the same from frame to frame, and where each comes from in the source, and came from before.

/** What a vertex shader is given, in the order of its slots. */
export const SLOTS = ["place", "source", "earlier"];

export class Triangles {
  meshed = ""; // columns and rows that they are woven for
  all = new Uint16Array(0); // their corners
  /** @type {Uint16Array | null} the corners that the card holds */
  held = null;

  /** @param {WebGLRenderingContext} gl */
  constructor(gl) {
    this.gl = gl;
    this.buffers = SLOTS.map((_name, slot) => {
      const buffer = gl.createBuffer();
      gl.bindBuffer(gl.ARRAY_BUFFER, buffer);
      gl.enableVertexAttribArray(slot);
      gl.vertexAttribPointer(slot, 2, gl.FLOAT, false, 0, 0);
      return buffer;
    });
    gl.bindBuffer(gl.ELEMENT_ARRAY_BUFFER, gl.createBuffer());
  }

  /**
   * @param {{ columns: number, rows: number }} lattice
   * @param {Float32Array} nodes where they come from, x and y in shares of the source
   * @param {Float32Array} [before] and in the frame before
   * @param {Uint16Array | null} [some] triangles, by their corners; all if not told
   */
  draw(lattice, nodes, before = nodes, some = null) {
    const { gl } = this;
    this.weave(lattice);
    const corners = some ?? this.all;
    if (this.held !== corners) {
      gl.bufferData(gl.ELEMENT_ARRAY_BUFFER, corners, gl.DYNAMIC_DRAW);
      this.held = corners;
    }
    [nodes, before].forEach((places, k) => {
      gl.bindBuffer(gl.ARRAY_BUFFER, this.buffers[k + 1]);
      gl.bufferData(gl.ARRAY_BUFFER, places, gl.DYNAMIC_DRAW);
    });
    gl.drawElements(gl.TRIANGLES, corners.length, gl.UNSIGNED_SHORT, 0);
  }

  /** @param {{ columns: number, rows: number }} lattice */
  weave({ columns, rows }) {
    const { gl } = this;
    if (this.meshed === `${columns} ${rows}`) return;
    const places = [];
    const corners = [];
    for (let j = 0; j < rows; j++) {
      for (let i = 0; i < columns; i++) {
        places.push(i / (columns - 1), j / (rows - 1));
        if (i + 1 < columns && j + 1 < rows) {
          const a = j * columns + i;
          const b = a + columns;
          corners.push(a, a + 1, b, b, a + 1, b + 1);
        }
      }
    }
    gl.bindBuffer(gl.ARRAY_BUFFER, this.buffers[0]);
    gl.bufferData(gl.ARRAY_BUFFER, new Float32Array(places), gl.STATIC_DRAW);
    this.all = new Uint16Array(corners);
    this.meshed = `${columns} ${rows}`;
  }
}
