// Writing and drawing over a picture so that it can be seen on any: a light line on a dark rim.

const RIM = "rgb(10 22 28 / .85)";
export const LIGHT = "#FFE27A";

/**
 * @param {Pen} pen
 * @param {string} text
 * @param {Spot} spot
 * @param {number} ratio
 * @param {CanvasTextAlign} [align] where of the text the spot is
 */
export function label(pen, text, [x, y], ratio, align = "left") {
  pen.textAlign = align;
  pen.font = `600 ${12 * ratio}px "Source Sans 3", sans-serif`;
  pen.textBaseline = "middle";
  pen.lineWidth = 3 * ratio;
  pen.lineJoin = "round";
  pen.strokeStyle = RIM;
  pen.strokeText(text, x, y);
  pen.fillStyle = "#fff";
  pen.fillText(text, x, y);
}

/**
 * A place that can be taken hold of.
 * @param {Pen} pen
 * @param {Spot} spot
 * @param {number} size
 * @param {number} ratio
 */
export function dot(pen, [x, y], size, ratio) {
  pen.beginPath();
  pen.arc(x, y, size * ratio, 0, 7);
  pen.fillStyle = "#fff";
  pen.fill();
  pen.lineWidth = 2 * ratio;
  pen.strokeStyle = "#C7452D";
  pen.stroke();
}

/**
 * Stroke what has been drawn, on a dark rim.
 * @param {Pen} pen
 * @param {object} how
 * @param {string} [how.colour]
 * @param {number} how.width css px
 * @param {number} how.ratio
 * @param {number[]} [how.dash] css px
 * @param {Path2D} [how.path] instead of the pen's own
 */
export function outlined(pen, { colour = LIGHT, width, ratio, dash = [], path }) {
  pen.setLineDash(dash.map((long) => long * ratio));
  for (const [ink, wide] of /** @type {[string, number][]} */ ([
    ["rgb(0 0 0 / .65)", width + 1.8],
    [colour, width],
  ])) {
    pen.strokeStyle = ink;
    pen.lineWidth = wide * ratio;
    if (path) pen.stroke(path);
    else pen.stroke();
  }
  pen.setLineDash([]);
}

/**
 * A line through places.
 * @param {Pen} pen
 * @param {Spot[]} spots
 * @param {boolean} [closed]
 */
export function through(pen, spots, closed = false) {
  pen.beginPath();
  for (const [x, y] of spots) pen.lineTo(x, y);
  if (closed) pen.closePath();
}
