// What is drawn of the marks over the picture, and what a pointer finds there.

const STRIDE = 4; // numbers a mark: share of width, share of height, what it does, its own number
const [, STEERING, ASIDE] = [0, 1, 2];
const REACH = 30; // px within which a pointer finds a mark
const SHAPES = {
  // Told apart by shape as well as by colour.
  steering: { fill: "#8CF0C0", line: "rgb(0 0 0 / .75)" },
  rejected: { fill: null, line: "#FFB36B" },
  aside: { fill: null, line: "#B9C6FF" },
};

export class Markings {
  constructor(stage) {
    this.stage = stage;
    this.on = false;
    this.dotSize = 3;
    this.trail = 8; // frames
    this.sets = new Map();
    this.lit = null; // a Set of marks' numbers
    this.groupOf = new Map();
    this.drawing = null; // the corners of a lasso in the making, canvas pixels
    this.spots = []; // of the marks as drawn: x, y, number
  }

  clear() {
    this.sets.clear();
  }

  // A frame's marks by their numbers.
  set(frame) {
    const found = this.sets.get(frame);
    if (found && !found.at) {
      found.at = new Map();
      for (let i = 0; i < found.marks.length; i += STRIDE) found.at.set(found.marks[i + 3], i);
    }
    return found;
  }

  put(frame, marks) {
    this.sets.set(frame, { marks });
  }

  // The spot of a mark in a part of the stage, canvas pixels; each frame through its own warp.
  spot(part, frame, x, y) {
    const [u, v] = part.lattice.unmap(frame, x, y);
    return [part.box.left + u * part.box.width, part.box.top + v * part.box.height];
  }

  draw(pen, part) {
    const at = this.stage.frame - this.stage.first;
    const set = this.set(at);
    if (!set || this.stage.outside) return;
    pen.beginPath();
    pen.rect(part.box.left, part.box.top, part.box.width, part.box.height);
    pen.clip();
    if (this.trail) this.trails(pen, part, at, set);
    const size = (this.dotSize * this.stage.ratio) / 2;
    for (let i = 0; i < set.marks.length; i += STRIDE) {
      const id = set.marks[i + 3];
      const [x, y] = this.spot(part, at, set.marks[i], set.marks[i + 1]);
      this.spots.push([x, y, id]);
      const doing = set.marks[i + 2];
      if (this.lit && this.lit.has(id)) {
        pen.beginPath();
        pen.arc(x, y, size + 4 * this.stage.ratio, 0, 7);
        pen.strokeStyle = "#FFE27A";
        pen.lineWidth = 2 * this.stage.ratio;
        pen.stroke();
      }
      if (doing === STEERING) this.dot(pen, x, y, size);
      else if (doing === ASIDE) this.cross(pen, x, y, size * 1.4);
      else this.diamond(pen, x, y, size * 1.5);
    }
  }

  trails(pen, part, at, set) {
    const trails = { steering: new Path2D(), rejected: new Path2D(), aside: new Path2D() };
    const earlier = [];
    for (let back = 1; back <= this.trail; back += 1) {
      const found = this.set(at - back);
      if (!found) break;
      earlier.push(found);
    }
    for (let i = 0; i < set.marks.length; i += STRIDE) {
      const path = trails[set.marks[i + 2] === STEERING ? "steering" : set.marks[i + 2] === ASIDE ? "aside" : "rejected"];
      path.moveTo(...this.spot(part, at, set.marks[i], set.marks[i + 1]));
      for (let back = 0; back < earlier.length; back += 1) {
        const k = earlier[back].at.get(set.marks[i + 3]);
        if (k === undefined) break;
        path.lineTo(...this.spot(part, at - back - 1, earlier[back].marks[k], earlier[back].marks[k + 1]));
      }
    }
    for (const [name, path] of Object.entries(trails)) {
      pen.lineWidth = this.stage.ratio;
      pen.globalAlpha = 0.75;
      pen.strokeStyle = SHAPES[name].fill || SHAPES[name].line;
      pen.stroke(path);
    }
    pen.globalAlpha = 1;
  }

  dot(pen, x, y, r) {
    pen.beginPath();
    pen.arc(x, y, r, 0, 7);
    pen.fillStyle = SHAPES.steering.fill;
    pen.strokeStyle = SHAPES.steering.line;
    pen.lineWidth = this.stage.ratio;
    pen.fill();
    pen.stroke();
  }

  diamond(pen, x, y, r) {
    pen.beginPath();
    pen.moveTo(x, y - r);
    pen.lineTo(x + r, y);
    pen.lineTo(x, y + r);
    pen.lineTo(x - r, y);
    pen.closePath();
    this.outlined(pen, SHAPES.rejected.line);
  }

  cross(pen, x, y, r) {
    pen.beginPath();
    pen.moveTo(x - r, y - r);
    pen.lineTo(x + r, y + r);
    pen.moveTo(x + r, y - r);
    pen.lineTo(x - r, y + r);
    this.outlined(pen, SHAPES.aside.line);
  }

  outlined(pen, colour) {
    pen.strokeStyle = "rgb(0 0 0 / .8)";
    pen.lineWidth = 2.6 * this.stage.ratio;
    pen.stroke();
    pen.strokeStyle = colour;
    pen.lineWidth = 1.2 * this.stage.ratio;
    pen.stroke();
  }

  drawLasso(pen) {
    if (!this.drawing) return;
    pen.beginPath();
    for (const [x, y] of this.drawing) pen.lineTo(x, y);
    pen.closePath();
    pen.fillStyle = "rgb(255 226 122 / .18)";
    pen.fill();
    this.outlined(pen, "#FFE27A");
  }

  // The number of the group under a pointer, canvas pixels; null without any.
  groupNear(x, y) {
    let best = REACH * this.stage.ratio;
    let found = null;
    for (const [px, py, id] of this.spots) {
      const away = Math.hypot(px - x, py - y);
      if (away < best && this.groupOf.has(id)) [best, found] = [away, this.groupOf.get(id)];
    }
    return found;
  }
}
