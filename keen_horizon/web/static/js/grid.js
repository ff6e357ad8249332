// The grid over the picture: lines of the output, or of the source seen through the warp.

export const RULING = { spacing: 12.5, turn: 0, x: 0, y: 0, colour: "#ffffff", thickness: 1, contrast: true, at: "output" };
const STEPS = 32; // pieces of a line that the warp bends

// `ruling`: spacing and offset in percent of the height, turn in degrees clockwise.
export function drawGrid(pen, part, ruling, stage) {
  const { box } = part;
  const lines = new Path2D();
  const source = ruling.at === "source";
  const shape = source ? stage.source : { width: box.width, height: box.height, aspect: 1 };
  const wide = (shape.width * shape.aspect) / shape.height; // in heights
  const turn = (ruling.turn * Math.PI) / 180;
  const [c, s] = [Math.cos(turn), Math.sin(turn)];
  const reach = Math.hypot(wide, 1) / 2 + 1;
  const step = ruling.spacing / 100;
  const middle = [wide / 2 + ruling.x / 100, 0.5 + ruling.y / 100];
  const spot = (u, v) => {
    // Along and across the turned lines, in heights from the middle.
    const x = (middle[0] + u * c - v * s) / wide;
    const y = middle[1] + u * s + v * c;
    return source ? stage.place(part, [x, y]) : [box.left + x * box.width, box.top + y * box.height];
  };
  const pieces = source ? STEPS : 1;
  const count = Math.ceil(reach / step);
  for (let k = -count; k <= count; k++) {
    for (const across of [true, false]) {
      for (let i = 0; i <= pieces; i++) {
        const along = -reach + (2 * reach * i) / pieces;
        const [x, y] = across ? spot(along, k * step) : spot(k * step, along);
        if (i) lines.lineTo(x, y);
        else lines.moveTo(x, y);
      }
    }
  }
  pen.save();
  pen.beginPath();
  pen.rect(box.left, box.top, box.width, box.height);
  pen.clip();
  // A dark line under a light one stays visible on any picture.
  const inks = ruling.contrast ? [["rgb(0 0 0 / .55)", 2.6], [ruling.colour, 1]] : [[ruling.colour, 1]];
  for (const [colour, width] of inks) {
    pen.strokeStyle = colour;
    pen.lineWidth = width * ruling.thickness * stage.ratio;
    pen.stroke(lines);
  }
  pen.restore();
}
