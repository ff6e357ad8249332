// What is drawn on the strip besides the path: room, confidence, keyframes, cuts, flags.
import { mostOf } from "./lines.js";

/** @typedef {import("./strip.js").Strip} Strip */

export const GUTTER = 44; // css px left of the plot, for the scale
export const TOP = 16; // room for the flag and the seconds
export const ROOM = 22; // css px that the room left takes
export const SURE = 6; // and the confidence

/**
 * @param {Strip} strip
 * @param {Pen} pen
 * @param {number} top
 * @param {number} height
 */
export function room(strip, pen, top, height) {
  if (!strip.data?.room) return;
  const most = mostOf(strip.data.room, 8);
  for (const [x, wide, room] of strip.bars(strip.data.room)) {
    const bare = room < -0.5;
    const tall = bare ? 3 * strip.ratio : (Math.max(0, room) / most) * height;
    pen.fillStyle = strip.colour(bare ? "--strip-weak" : "--strip-room");
    pen.fillRect(x, top + height - tall, wide, tall);
  }
}

/**
 * @param {Strip} strip
 * @param {Pen} pen
 * @param {number} height
 */
export function confidence(strip, pen, height) {
  if (!strip.data) return;
  const tall = SURE * strip.ratio;
  for (const [x, wide, sure] of strip.bars(strip.data.confidence)) {
    pen.fillStyle = strip.colour("--strip-sure");
    pen.globalAlpha = 0.25 + 0.75 * sure;
    pen.fillRect(x, height - tall, wide, tall);
  }
  pen.globalAlpha = 1;
  pen.fillStyle = strip.colour("--strip-weak");
  strip.data.weak.forEach((is, i) => {
    if (is) pen.fillRect(strip.x(i) - strip.ratio, height - tall, 2 * strip.ratio, tall);
  });
}

/**
 * Frames blurred by motion: a notch in the band of confidence.
 * @param {Strip} strip
 * @param {Pen} pen
 * @param {number} height
 */
export function blurred(strip, pen, height) {
  const r = strip.ratio;
  pen.fillStyle = strip.colour("--amber");
  strip.data?.blurred.forEach((is, i) => {
    if (!is) return;
    pen.beginPath();
    pen.moveTo(strip.x(i) - 3.5 * r, height);
    pen.lineTo(strip.x(i), height - 8 * r);
    pen.lineTo(strip.x(i) + 3.5 * r, height);
    pen.fill();
  });
}

/**
 * Frames that could not be decoded whole: crosses along the top.
 * @param {Strip} strip
 * @param {Pen} pen
 */
export function damaged(strip, pen) {
  const r = strip.ratio;
  for (const frame of strip.data?.damaged ?? []) {
    const [x, y, arm] = [strip.x(frame), 20 * r, 3.5 * r];
    strip.line(pen, [x - arm, y - arm], [x + arm, y + arm], "--strip-weak", 1.6);
    strip.line(pen, [x - arm, y + arm], [x + arm, y - arm], "--strip-weak", 1.6);
  }
}

/**
 * The share that neighbours lend, hanging from the top.
 * @param {Strip} strip
 * @param {Pen} pen
 * @param {Float32Array} borrowed
 */
export function lent(strip, pen, borrowed) {
  const r = strip.ratio;
  const most = mostOf(borrowed, 0);
  if (most <= 0) return;
  pen.fillStyle = strip.colour("--amber");
  pen.globalAlpha = 0.5;
  const wide = (strip.canvas.width - GUTTER * r) / strip.count + 1;
  borrowed.forEach((share, i) =>
    pen.fillRect(strip.x(i - 0.5), TOP * r, wide, (share / most) * 24 * r),
  );
  pen.globalAlpha = 1;
}

/**
 * How surely the held point is known: a band above that of confidence, gone where it is lost.
 * @param {Strip} strip
 * @param {Pen} pen
 * @param {Float32Array} held
 * @param {number} height
 */
export function heldTrace(strip, pen, held, height) {
  const r = strip.ratio;
  for (const [x, wide, sure] of strip.bars(held)) {
    pen.fillStyle = strip.colour(sure > 0 ? "--buoy" : "--strip-weak");
    pen.globalAlpha = sure > 0 ? 0.9 : 0.5;
    const tall = (sure > 0 ? 5 * sure : 1.5) * r;
    pen.fillRect(x, height - SURE * r - tall - r, wide, tall);
  }
  pen.globalAlpha = 1;
}

/**
 * @param {Strip} strip
 * @param {Pen} pen
 */
export function keys(strip, pen) {
  const r = strip.ratio;
  for (const frame of strip.data?.keys ?? []) {
    const at = strip.ghost?.from === frame ? strip.ghost.to : frame;
    const x = strip.x(at);
    const y = strip.floor;
    pen.beginPath();
    pen.moveTo(x, y - 11 * r);
    pen.lineTo(x + 5 * r, y - 6 * r);
    pen.lineTo(x, y - r);
    pen.lineTo(x - 5 * r, y - 6 * r);
    pen.closePath();
    pen.fillStyle = strip.colour("--paper");
    pen.strokeStyle = strip.colour("--buoy");
    pen.lineWidth = 1.6 * r;
    pen.fill();
    pen.stroke();
  }
}

/**
 * @param {Strip} strip
 * @param {Pen} pen
 * @param {[number, number]} loop
 * @param {number} height
 */
export function shade(strip, pen, loop, height) {
  const [first, last] = loop.map((at) => strip.x(at));
  const left = GUTTER * strip.ratio;
  pen.fillStyle = strip.colour("--ink");
  pen.globalAlpha = 0.16;
  pen.fillRect(left, 0, first - left, height);
  pen.fillRect(last, 0, strip.canvas.width - last, height);
  pen.globalAlpha = 1;
}

/**
 * @param {Strip} strip
 * @param {Pen} pen
 * @param {number} height
 */
export function cuts(strip, pen, height) {
  const r = strip.ratio;
  for (const cut of strip.data?.cuts ?? []) {
    pen.setLineDash([4 * r, 3 * r]);
    strip.line(pen, [strip.x(cut), 0], [strip.x(cut), height], "--ink", 1);
    pen.setLineDash([]);
    strip.caption(pen, "cut", strip.x(cut) + 4 * r, "--ink", strip.x(cut));
  }
}

/**
 * @param {Strip} strip
 * @param {Pen} pen
 * @param {number} x
 * @param {number} height
 */
export function flag(strip, pen, x, height) {
  const r = strip.ratio;
  const side = x > strip.canvas.width - 90 * r ? -1 : 1;
  strip.line(pen, [x, 0], [x, height], "--strip-weak", 1.2);
  pen.fillStyle = strip.colour("--strip-weak");
  pen.beginPath();
  pen.moveTo(x, 1);
  pen.lineTo(x + side * 11 * r, 6 * r);
  pen.lineTo(x, 11 * r);
  pen.fill();
  pen.textAlign = side > 0 ? "left" : "right";
  strip.caption(pen, "tightest", x + side * 14 * r, "--amber", x);
  pen.textAlign = "left";
}
