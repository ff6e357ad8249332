// What is drawn on a canvas above the picture: grid, marks, names of the halves, what panels add.
import { drawGrid } from "./grid.js";
import { outlined } from "./ink.js";
import { Markings } from "./markings.js";

const MAGNIFIED = 168; // css px of the glass
const TIMES = 4; // that it enlarges

/** @typedef {(pen: Pen, part: Part) => void} Extra */

export class Overlay {
  /**
   * @param {HTMLCanvasElement} canvas
   * @param {import("./stage.js").Stage} stage
   */
  constructor(canvas, stage) {
    this.canvas = canvas;
    this.stage = stage;
    this.markings = new Markings(stage);
    /** @type {Extra[]} what panels draw over the picture */
    this.extras = [];
    /** @type {Grip[]} what can be taken hold of, as drawn last */
    this.grips = [];
    /** @type {Spot | null} a place shown enlarged while something is dragged to it */
    this.magnified = null;
    /** @type {Spot[] | null} what is being drawn around */
    this.lasso = null;
    this.written = false;
  }

  draw() {
    const pen = /** @type {Pen} */ (this.canvas.getContext("2d"));
    const { stage } = this;
    const view = stage.view();
    const parts = stage.layout();
    const named = this.hasNames(view, parts);
    const over = !view.clean && this.hasSome(view);
    this.grips = [];
    this.markings.spots = [];
    const wanted = over || named || stage.differs;
    // Clearing a large canvas costs as much as drawing the picture: only when there is something.
    if (wanted || this.written) pen.clearRect(0, 0, this.canvas.width, this.canvas.height);
    this.written = wanted;
    if (over) this.drawAll(pen, parts);
    if (named) this.drawNames(pen, parts);
    if (stage.differs) this.drawNames(pen, [{ ...parts[0], name: this.differenceWords() }]);
    if (view.mode === "split" && named) this.drawLine(pen, parts);
  }

  /**
   * Whether it is said what is shown: where that is not simply the treated picture.
   * @param {ViewStore} view
   * @param {Part[]} parts
   */
  hasNames(view, parts) {
    return view.peek || this.stage.clock.outside || parts.length > 1;
  }

  /** @param {ViewStore} view */
  hasSome(view) {
    return Boolean(view.grid || view.marks || this.lasso || this.extras.length);
  }

  /**
   * @param {Pen} pen
   * @param {Part[]} parts
   */
  drawAll(pen, parts) {
    for (const part of parts) this.drawPart(pen, part);
    if (this.lasso) this.drawLasso(pen, this.lasso);
    if (this.magnified) this.magnify(pen, this.magnified);
  }

  differenceWords() {
    return this.stage.texture?.follows(this.stage.frame)
      ? "change since the frame before, × 4"
      : "play or step to see what changes";
  }

  /**
   * @param {Pen} pen
   * @param {Part} part
   */
  drawPart(pen, part) {
    const view = this.stage.view();
    const { region } = part;
    pen.save();
    pen.beginPath();
    pen.rect(region.left, region.top, region.width, region.height);
    pen.clip();
    if (part.side) this.clipSide(pen, part.side);
    if (view.grid) drawGrid(pen, part, view.ruling, this.stage);
    if (view.marks) this.markings.draw(pen, part);
    for (const extra of this.extras) extra(pen, part);
    pen.restore();
  }

  /**
   * @param {Pen} pen
   * @param {number} side
   */
  clipSide(pen, side) {
    const { point, normal } = this.stage.line();
    const far = 4 * (this.canvas.width + this.canvas.height);
    const along = [-normal[1], normal[0]];
    pen.beginPath();
    for (const [a, n] of [
      [-1, 0],
      [1, 0],
      [1, 1],
      [-1, 1],
    ]) {
      pen.lineTo(
        point[0] + far * (a * along[0] + n * side * normal[0]),
        point[1] + far * (a * along[1] + n * side * normal[1]),
      );
    }
    pen.clip();
  }

  /**
   * @param {Pen} pen
   * @param {Spot[]} corners
   */
  drawLasso(pen, corners) {
    pen.beginPath();
    for (const [x, y] of corners) pen.lineTo(x, y);
    pen.closePath();
    pen.fillStyle = "rgb(255 226 122 / .18)";
    pen.fill();
    outlined(pen, { width: 1.2, ratio: this.stage.ratio });
  }

  /**
   * What lies under a place, enlarged, in the corner that is farthest from it.
   * @param {Pen} pen
   * @param {Spot} spot
   */
  magnify(pen, [x, y]) {
    const { picture, ratio } = this.stage;
    const size = MAGNIFIED * ratio;
    const seen = size / TIMES;
    const left = x > picture.width / 2 ? 10 * ratio : picture.width - size - 10 * ratio;
    const top = 10 * ratio;
    pen.save();
    pen.fillStyle = "#888";
    pen.fillRect(left, top, size, size);
    pen.imageSmoothingEnabled = false;
    pen.drawImage(picture, x - seen / 2, y - seen / 2, seen, seen, left, top, size, size);
    pen.beginPath();
    pen.moveTo(left + size / 2, top);
    pen.lineTo(left + size / 2, top + size);
    pen.moveTo(left, top + size / 2);
    pen.lineTo(left + size, top + size / 2);
    outlined(pen, { width: 1, ratio });
    pen.lineWidth = 2 * ratio;
    pen.strokeStyle = "#fff";
    pen.strokeRect(left, top, size, size);
    pen.restore();
  }

  /**
   * @param {Pen} pen
   * @param {Part[]} parts
   */
  drawLine(pen, parts) {
    if (parts.length < 2) return;
    const { point, normal } = this.stage.line();
    const far = this.canvas.width + this.canvas.height;
    pen.beginPath();
    pen.moveTo(point[0] + far * normal[1], point[1] - far * normal[0]);
    pen.lineTo(point[0] - far * normal[1], point[1] + far * normal[0]);
    outlined(pen, { colour: "#fff", width: 1.5, ratio: this.stage.ratio });
  }

  /**
   * @param {Pen} pen
   * @param {Part[]} parts
   */
  drawNames(pen, parts) {
    const { ratio } = this.stage;
    pen.font = `${13 * ratio}px "Source Sans 3", sans-serif`;
    pen.textBaseline = "middle";
    for (const part of parts) {
      const width = pen.measureText(part.name).width + 14 * ratio;
      const height = 22 * ratio;
      const [x, y] = this.nameAt(part, width, height);
      pen.fillStyle = "rgb(10 22 28 / .8)";
      pen.fillRect(x, y, width, height);
      pen.fillStyle = "#fff";
      pen.fillText(part.name, x + 7 * ratio, y + height / 2);
    }
  }

  /**
   * In the picture's corner, or, of a half, beside the line.
   * @param {Part} part
   * @param {number} width
   * @param {number} height
   * @returns {Spot}
   */
  nameAt({ box, region, side }, width, height) {
    const { ratio, picture } = this.stage;
    let x = Math.max(box.left, region.left) + 8 * ratio;
    let y = Math.max(box.top, region.top) + 8 * ratio;
    if (!side) return [x, y];
    const { point, normal } = this.stage.line();
    const away = 46 * ratio;
    x = point[0] + side * normal[0] * (away + width / 2) - width / 2;
    if (Math.abs(normal[1]) > 0.5) y = point[1] + side * normal[1] * away;
    return [
      Math.max(4, Math.min(picture.width - width - 4, x)),
      Math.max(4, Math.min(picture.height - height - 4, y)),
    ];
  }
}
