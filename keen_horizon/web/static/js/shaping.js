// Frame: turn, square up, edge stretch, swell, cover, keep-view canvas. Mixed into the clip screen.
import { post } from "./api.js";
import { CORNERS } from "./framing.js";
import { parts } from "./parts.js";

const NAMES = { top_left: "top left", top_right: "top right", bottom_right: "bottom right", bottom_left: "bottom left" };
const SHAPES = ["top_left", "top_right", "bottom_right", "bottom_left"]; // each corner's handle is that corner
const TWINS = { pull_left: "pull_right", pull_right: "pull_left", pull_top: "pull_bottom", pull_bottom: "pull_top" };
const round = (value) => Math.round(value * 100) / 100;

export const shaping = {
  holdShapes() {
    parts.stage.extras.push((pen, part) => this.drawShapes(pen, part));
  },

  // A place of the steadied plane, in percent of the picture, on the canvas; only right where
  // nothing else reshapes the picture on show.
  planeSpot(part, x, y) {
    const [zoom, across, down] = this.viewNow();
    const u = 0.5 + (x / 100 - 0.5 - across) * zoom;
    const v = 0.5 + (y / 100 - 0.5 - down) * zoom;
    return [part.box.left + u * part.box.width, part.box.top + v * part.box.height];
  },

  planeAt([x, y]) {
    const { box } = parts.stage.partAt(x, y);
    const [zoom, across, down] = this.viewNow();
    const share = (at, low, size, off) => 100 * (((at - low) / size - 0.5) / zoom + 0.5 + off);
    return [share(x, box.left, box.width, across), share(y, box.top, box.height, down)];
  },

  viewNow() {
    const at = 3 * this.frame;
    return this.viewLine && this.viewLine.length > at + 2 ? this.viewLine.subarray(at, at + 3) : [1, 0, 0];
  },

  // --- square up --------------------------------------------------------------------------------

  // The picture is shown as it is while its corners are set.
  setCorners() {
    this.cornering = !this.cornering;
    parts.stage.pause();
    if (this.cornering) {
      this.treatment.frame.square_up = false;
      this.solve(false, true);
    } else this.squareUp(true);
  },

  squareUp(on) {
    this.cornering = false;
    this.treatment.frame.square_up = on;
    this.solve(true);
  },

  noCorners() {
    const home = { top_left: [0, 0], top_right: [100, 0], bottom_right: [100, 100], bottom_left: [0, 100] };
    for (const corner of CORNERS) {
      [this.treatment.frame[`${corner}_x`], this.treatment.frame[`${corner}_y`]] = home[corner];
      for (const axis of "xy") delete this.treatment.keys[`frame.${corner}_${axis}`];
    }
    this.squareUp(false);
  },

  cornerPlaces() {
    return CORNERS.map((corner) => ["x", "y"].map((axis) => this.keyedValue(`frame.${corner}_${axis}`)));
  },

  moveCorner(corner, [x, y], settled) {
    for (const [axis, value] of [["x", x], ["y", y]]) this.putValue(`frame.${corner}_${axis}`, round(Math.max(-100, Math.min(200, value))));
    this.listCorners();
    if (settled) parts.stage.draw();
    else parts.stage.drawOver();
  },

  typeCorner(corner, axis, event) {
    const value = Number(event.target.value);
    if (event.target.value !== "" && !Number.isNaN(value)) this.putValue(`frame.${corner}_${axis}`, value);
    this.solve(true);
  },

  keyCorners() {
    const at = this.frame + this.firstFrame;
    const here = this.keysOf("frame.top_left_x").some((key) => key.frame === at);
    for (const corner of CORNERS) {
      for (const axis of "xy") {
        const name = `frame.${corner}_${axis}`;
        if (here) this.dropKey(name, at);
        else this.putKey(name, at, this.keyedValue(name));
      }
    }
    this.solve(true);
  },

  listCorners() {
    if (!this.treatment) return;
    this.cornerList = CORNERS.map((corner) => ({ key: corner, name: NAMES[corner], x: round(this.keyedValue(`frame.${corner}_x`)), y: round(this.keyedValue(`frame.${corner}_y`)) }));
    const keys = this.keysOf("frame.top_left_x");
    this.cornersNow = { keyed: keys.length > 0, here: keys.some((key) => key.frame === this.frame + this.firstFrame) };
  },

  // --- edge stretch -----------------------------------------------------------------------------

  pullTwin(name, value) {
    const key = name.slice(6);
    if ((key === "pull_left" || key === "pull_right") ? !this.pairAcross : !this.pairDown) return;
    this.putValue(`frame.${TWINS[key]}`, value);
  },

  // A value for the whole clip, or for this frame where it changes over the clip.
  putValue(name, value) {
    const [station, key] = name.split(".");
    if (this.keysOf(name).length) this.putKey(name, this.frame + this.firstFrame, value);
    else this.treatment[station][key] = value;
  },

  // --- cover, and the canvas that keeps the whole view ------------------------------------------

  async cover() {
    await this.guard(async () => {
      const { settings, words } = await post(`${this.base}/cover`, { treatment: this.treatment });
      Object.assign(this.treatment.frame, settings);
      for (const name of ["extra_zoom", "offset_x", "offset_y"]) delete this.treatment.keys[`frame.${name}`];
      this.coverWords = words;
      await this.solve(true);
    });
  },

  async keepView() {
    await this.guard(async () => {
      const { settings, words } = await post(`${this.base}/keep-view`, { treatment: this.treatment, ceiling: this.canvasCeiling });
      Object.assign(this.treatment.frame, settings);
      for (const name of ["extra_zoom", "offset_x", "offset_y"]) delete this.treatment.keys[`frame.${name}`];
      this.coverWords = words;
      await this.solve(true);
    });
  },

  sizeCanvas(event) {
    this.canvasCeiling = Math.max(256, Math.min(8192, Number(event.target.value) || 8192));
    event.target.value = this.canvasCeiling;
  },

  // --- on the picture ---------------------------------------------------------------------------

  drawShapes(pen, part) {
    if (!this.ready || !this.treatment || this.station !== "frame" || !part.treated) return;
    const { ratio } = parts.stage;
    if (this.cornering) {
      const spots = this.cornerPlaces().map(([x, y]) => this.planeSpot(part, x, y));
      outline(pen, spots, ratio);
      spots.forEach((spot, k) => {
        cornerMark(pen, spot, SHAPES[k], ratio);
        parts.stage.label(pen, NAMES[CORNERS[k]], spot[0] + 14 * ratio, spot[1] + (k < 2 ? 18 : -18) * ratio);
        parts.stage.grips.push({ spot, magnified: true, move: (to, settled) => this.moveCorner(CORNERS[k], this.planeAt(to), settled) });
      });
    }
    if (this.swellOpen && !this.treatment.frame.square_up) this.drawSwell(pen, part);
  },

  drawSwell(pen, part) {
    const { ratio } = parts.stage;
    const [x, y, radius] = ["swell_x", "swell_y", "swell_radius"].map((key) => this.keyedValue(`frame.${key}`));
    const [zoom] = this.viewNow();
    const long = (radius / 100) * part.box.height * zoom;
    const discs = [[x, y]];
    if (this.treatment.frame.swell_twin) discs.push([100 - x, 100 - y]);
    discs.forEach(([cx, cy], k) => {
      const spot = this.planeSpot(part, cx, cy);
      for (const [share, dash] of [[1, []], [1 - this.treatment.frame.swell_rim / 100, [5 * ratio, 4 * ratio]]]) {
        pen.setLineDash(dash);
        for (const [ink, width] of [["rgb(0 0 0 / .65)", 3.4], ["#fff", 1.5]]) {
          pen.beginPath();
          pen.arc(spot[0], spot[1], Math.max(0.5, long * share), 0, 7);
          pen.strokeStyle = ink;
          pen.lineWidth = width * ratio;
          pen.stroke();
        }
      }
      pen.setLineDash([]);
      if (k) return;
      parts.stage.dot(pen, spot, 5);
      const rim = [spot[0] + long, spot[1]];
      parts.stage.dot(pen, rim, 5);
      parts.stage.grips.push(
        { spot, move: (to, settled) => { const [u, v] = this.planeAt(to); this.putSwell({ swell_x: u, swell_y: v }, settled); } },
        { spot: rim, move: (to, settled) => this.putSwell({ swell_radius: Math.max(2, (100 * Math.hypot(to[0] - spot[0], to[1] - spot[1])) / (part.box.height * zoom)) }, settled) },
      );
    });
  },

  putSwell(values, settled) {
    for (const [key, value] of Object.entries(values)) this.putValue(`frame.${key}`, round(value));
    this.reflectKeyed();
    this.solve(settled, !settled);
  },
};

function outline(pen, spots, ratio) {
  for (const [ink, width] of [["rgb(0 0 0 / .6)", 3.2], ["#FFE27A", 1.4]]) {
    pen.beginPath();
    spots.forEach(([x, y], i) => (i ? pen.lineTo(x, y) : pen.moveTo(x, y)));
    pen.closePath();
    pen.strokeStyle = ink;
    pen.lineWidth = width * ratio;
    pen.stroke();
  }
}

// A handle has the shape of the corner it is.
function cornerMark(pen, [x, y], corner, ratio) {
  const long = 15 * ratio;
  const right = corner.endsWith("left") ? 1 : -1;
  const down = corner.startsWith("top") ? 1 : -1;
  for (const [ink, width] of [["rgb(0 0 0 / .7)", 7], ["#FFE27A", 3.4]]) {
    pen.beginPath();
    pen.moveTo(x + right * long, y);
    pen.lineTo(x, y);
    pen.lineTo(x, y + down * long);
    pen.strokeStyle = ink;
    pen.lineWidth = width * ratio;
    pen.stroke();
  }
}
