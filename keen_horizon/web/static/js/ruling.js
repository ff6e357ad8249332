// The grid's settings, the horizon line, and handles over the picture. Mixed into the clip screen.
import { post } from "./api.js";
import { RULING } from "./grid.js";
import { parts } from "./parts.js";

const REACH = 16; // px within which a pointer takes hold of a handle

export const ruling = {
  // --- handles: whoever draws one says where it is and what moving it does ------------------------

  holdGrips() {
    const { stage } = this.$refs;
    let held = null;
    stage.addEventListener("pointerdown", (event) => {
      if (event.button || event.target.closest("button") || this.tracing) return;
      const spot = parts.stage.spot(event);
      const away = (grip) => Math.hypot(grip.spot[0] - spot[0], grip.spot[1] - spot[1]);
      const near = parts.stage.grips.filter((grip) => away(grip) < REACH * parts.stage.ratio);
      held = near.sort((a, b) => away(a) - away(b))[0] || null;
      if (!held) return;
      event.stopImmediatePropagation();
      parts.stage.pause();
      stage.setPointerCapture(event.pointerId);
    });
    const move = (event, settled) => {
      const spot = parts.stage.spot(event);
      parts.stage.magnified = held.magnified && !settled ? spot : null;
      held.move(spot, settled);
      parts.stage.draw();
      if (settled) held = null;
    };
    stage.addEventListener("pointermove", (event) => { if (held) move(event, false); });
    stage.addEventListener("pointerup", (event) => { if (held) move(event, true); });
  },

  hideAll() {
    parts.stage.clean = !parts.stage.clean;
    this.note = parts.stage.clean ? "Everything over the picture is hidden; H brings it back." : "";
    parts.stage.draw();
  },

  // --- the grid ---------------------------------------------------------------------------------

  setRuling(key, event) {
    const { target } = event;
    const value = target.type === "checkbox" ? target.checked : target.type === "color" ? target.value : Number(target.value);
    this.ruling = { ...this.ruling, [key]: value };
    this.drawRuling();
  },

  ruleAt(at) {
    this.ruling = { ...this.ruling, at };
    this.drawRuling();
  },

  resetRuling() {
    this.ruling = { ...RULING };
    this.drawRuling();
  },

  drawRuling() {
    parts.stage.ruling = { ...this.ruling };
    if (!this.grid) this.overlay("grid");
    this.remember();
    parts.stage.drawOver();
  },

  // --- the horizon line: two ends over the treated picture, shares of it ---------------------------

  holdHorizon() {
    parts.stage.extras.push((pen, part) => this.drawHorizon(pen, part));
  },

  wantHorizon() {
    this.horizon = this.horizon ? null : [[0.2, 0.5], [0.8, 0.5]];
    this.horizonWords = this.horizon ? "Drag its ends onto the horizon." : "";
    this.horizonTilt = null;
    parts.stage.pause();
    if (this.horizon) this.lookAt(parts.stage.frame);
    parts.stage.drawOver();
  },

  async measureHorizon() {
    const { stage } = parts;
    const part = stage.layout().find((one) => one.treated);
    if (!part) return;
    const { frame } = stage;
    const spots = this.horizon.map(([u, v]) => [part.box.left + u * part.box.width, part.box.top + v * part.box.height]);
    const pixels = (spot) => [((spot[0] - part.box.left) / part.box.width) * stage.output.width * stage.output.aspect, ((spot[1] - part.box.top) / part.box.height) * stage.output.height];
    const [a, b] = spots.map(pixels);
    this.horizonTilt = (Math.atan2(b[1] - a[1], b[0] - a[0]) * 180) / Math.PI;
    this.horizonWords = `Tilt ${this.horizonTilt.toFixed(2)}°. Looking how it bends …`;
    if (!(await this.lookAt(frame))) return;
    const pins = spots.map((spot) => stage.sourceAt(...spot));
    try {
      const { points } = await post(`${this.base}/lens/trace`, { frame, pins });
      const along = points.map((point) => pixels(stage.place(part, point)));
      const [first, last] = [along[0], along[along.length - 1]];
      const [dx, dy] = [last[0] - first[0], last[1] - first[1]];
      const length = Math.hypot(dx, dy) || 1;
      const bends = along.map(([x, y]) => ((x - first[0]) * dy - (y - first[1]) * dx) / length);
      const bend = bends.reduce((most, value) => (Math.abs(value) > Math.abs(most) ? value : most), 0);
      this.horizonTilt = (Math.atan2(dy, dx) * 180) / Math.PI;
      this.horizonWords = `Tilt ${this.horizonTilt.toFixed(2)}°, bent by ${Math.abs(bend).toFixed(1)} px.`;
    } catch {
      this.horizonWords = `Tilt ${this.horizonTilt.toFixed(2)}°; no continuous edge lies under the line, so its bend is not known.`;
    }
  },

  levelHorizon() {
    const turn = this.keyedValue("frame.turn") - this.horizonTilt;
    this.putValue("frame.turn", Math.round(turn * 100) / 100);
    this.horizon = null;
    this.horizonWords = "";
    this.solve(true);
  },

  drawHorizon(pen, part) {
    if (!this.horizon || !part.treated || this.station !== "lens") return;
    const { stage } = parts;
    const spots = this.horizon.map(([u, v]) => [part.box.left + u * part.box.width, part.box.top + v * part.box.height]);
    for (const [ink, width] of [["rgb(0 0 0 / .6)", 3.4], ["#FFE27A", 1.6]]) {
      pen.beginPath();
      pen.moveTo(...spots[0]);
      pen.lineTo(...spots[1]);
      pen.strokeStyle = ink;
      pen.lineWidth = width * stage.ratio;
      pen.stroke();
    }
    spots.forEach((spot, k) => {
      stage.dot(pen, spot, 6);
      stage.grips.push({
        spot,
        magnified: true,
        move: ([x, y], settled) => {
          this.horizon[k] = [(x - part.box.left) / part.box.width, (y - part.box.top) / part.box.height];
          if (settled) this.measureHorizon();
        },
      });
    });
  },
};
