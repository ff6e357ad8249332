// The grid over the picture: lines of the output, or of the source seen through the warp.
import { outlined } from "./ink.js";

/**
 * Spacing and offset in percent of the height, turn in degrees clockwise, thickness in px.
 */
export const RULING = {
  spacing: 12.5,
  turn: 0,
  x: 0,
  y: 0,
  colour: "#ffffff",
  thickness: 1,
  contrast: true,
  /** @type {"output" | "source"} */
  at: "output",
};
const STEPS = 32; // pieces of a line that the warp bends

/**
 * @param {Pen} pen
 * @param {Part} part
 * @param {typeof RULING} ruling
 * @param {import("./stage.js").Stage} stage
 */
export function drawGrid(pen, part, ruling, stage) {
  const { box } = part;
  const source = ruling.at === "source";
  const shape = source ? stage.source : { width: box.width, height: box.height, aspect: 1 };
  const wide = (shape.width * shape.aspect) / shape.height; // in heights
  const turn = (ruling.turn * Math.PI) / 180;
  const [c, s] = [Math.cos(turn), Math.sin(turn)];
  const middle = [wide / 2 + ruling.x / 100, 0.5 + ruling.y / 100];
  /**
   * Along and across the turned lines, in heights from the middle.
   * @param {number} u
   * @param {number} v
   * @returns {Spot}
   */
  const spot = (u, v) => {
    const x = (middle[0] + u * c - v * s) / wide;
    const y = middle[1] + u * s + v * c;
    return source
      ? stage.place(part, [x, y])
      : [box.left + x * box.width, box.top + y * box.height];
  };
  const path = lines(spot, Math.hypot(wide, 1) / 2 + 1, ruling.spacing / 100, source ? STEPS : 1);
  pen.save();
  pen.beginPath();
  pen.rect(box.left, box.top, box.width, box.height);
  pen.clip();
  const how = { colour: ruling.colour, width: ruling.thickness, ratio: stage.ratio, path };
  if (ruling.contrast) outlined(pen, how);
  else {
    pen.strokeStyle = ruling.colour;
    pen.lineWidth = ruling.thickness * stage.ratio;
    pen.stroke(path);
  }
  pen.restore();
}

/**
 * @param {(u: number, v: number) => Spot} spot
 * @param {number} reach of the lines
 * @param {number} step from line to line
 * @param {number} pieces of a line
 */
function lines(spot, reach, step, pieces) {
  const path = new Path2D();
  const count = Math.ceil(reach / step);
  for (let k = -count; k <= count; k++) {
    for (const across of [true, false]) {
      for (let i = 0; i <= pieces; i++) {
        const along = -reach + (2 * reach * i) / pieces;
        const [x, y] = across ? spot(along, k * step) : spot(k * step, along);
        if (i) path.lineTo(x, y);
        else path.moveTo(x, y);
      }
    }
  }
  return path;
}
