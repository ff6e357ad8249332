// Holding points: placing them, seeing them followed, where they are held. Mixed into the clip screen.
import { unpack } from "./api.js";
import { parts } from "./parts.js";

const BOX = { pattern: 0.08, search: 0.08 };

export const holding = {
  holdPoints() {
    const { stage } = this.$refs;
    let dragging = false;
    stage.addEventListener("pointerdown", (event) => {
      if (event.button || this.holding === null || event.target.closest("button")) return;
      if (this.holding !== "place") {
        this.placeHeld(...parts.stage.spot(event));
        return;
      }
      stage.setPointerCapture(event.pointerId);
      dragging = true;
      this.holdAt(...parts.stage.spot(event), false);
    });
    stage.addEventListener("pointermove", (event) => {
      if (dragging) this.holdAt(...parts.stage.spot(event), false);
    });
    stage.addEventListener("pointerup", (event) => {
      if (!dragging) return;
      dragging = false;
      this.holdAt(...parts.stage.spot(event), true);
      this.holding = null;
    });
    parts.stage.extras.push((pen, part) => this.drawHeld(pen, part));
  },

  placeHeld(x, y) {
    const { motion } = this.treatment;
    const round = (value) => Math.round(value * 1e5) / 1e5;
    const at = parts.stage.sourceAt(x, y).map(round);
    const frame = parts.stage.frame;
    const what = this.holding;
    this.holding = null;
    if (what === "new") {
      motion.hold.push({ frame, at, ...BOX, again: [] });
    } else {
      const point = motion.hold[what];
      if (point.frame === frame) point.at = at;
      else point.again = [...point.again.filter((one) => one.frame !== frame), { frame, at }].sort((a, b) => a.frame - b.frame);
    }
    this.solve(true);
  },

  // Where the output is to show the first point, before the zoom: the picture follows the drag.
  holdAt(x, y, settled) {
    const { box } = parts.stage.partAt(x, y);
    const share = (value) => Math.round(1e5 * Math.max(0, Math.min(1, 0.5 + (value - 0.5) / this.report.zoom))) / 1e5;
    this.treatment.motion.hold_at = [share((x - box.left) / box.width), share((y - box.top) / box.height)];
    this.solve(settled);
  },

  wantPlace(what) {
    this.holding = this.holding === what ? null : what;
    this.lassoing = false;
    parts.stage.pause();
    this.holdHint = { new: "Click a corner or a spot with contrast.", place: "Drag to where the point is to be held." }[what] || "Click where the point is in this frame.";
  },

  dropPoint(index) {
    this.treatment.motion.hold.splice(index, 1);
    this.solve(true);
  },

  freePlace() {
    this.treatment.motion.hold_at = null;
    this.solve(true);
  },

  sizeBox(index, name, event) {
    this.treatment.motion.hold[index][name] = Number(event.target.value) / 100;
    this.solve(true);
  },

  reflectHold() {
    const { motion } = this.treatment;
    this.holds = motion.aim === "hold";
    this.heldList = motion.hold.map((point, index) => ({
      index,
      words: `Point ${index + 1} · placed at ${[point.frame, ...point.again.map((one) => one.frame)].join(", ")}`,
      pattern: Math.round(point.pattern * 1000) / 10,
      search: Math.round(point.search * 1000) / 10,
    }));
    this.mayHold = motion.hold.length < 4;
  },

  takeHold(strip, report) {
    this.heldPlaces = strip.places ? unpack(strip.places) : null;
    parts.strip.held = strip.held ? unpack(strip.held) : null;
    const { hold } = report;
    this.heldWords = hold ? `known in ${hold.known_frames} frames, strays ${hold.strays.toFixed(2)} px` : "";
    this.furthest = hold ? `Furthest off: frame ${hold.furthest_frame}, ${hold.furthest.toFixed(0)} px` : "";
  },

  goFurthest() {
    if (!this.report || !this.report.hold) return;
    parts.stage.pause();
    parts.stage.seek(this.report.hold.furthest_frame);
  },

  // The boxes of the points, and where the first is to be.
  drawHeld(pen, part) {
    if (!this.treatment || !this.holds || this.station !== "motion") return;
    const at = parts.stage.frame - parts.stage.first;
    const count = this.lastIndex + 1;
    const r = parts.stage.ratio;
    this.treatment.motion.hold.forEach((point, k) => {
      const i = 2 * (k * count + at);
      const followed = this.heldPlaces && this.heldPlaces.length > i + 1 && Number.isFinite(this.heldPlaces[i]);
      const placed = [point, ...point.again].find((one) => one.frame === parts.stage.frame);
      const place = placed ? placed.at : followed ? [this.heldPlaces[i], this.heldPlaces[i + 1]] : null;
      if (!place) return;
      const [x, y] = parts.stage.markings.spot(part, at, ...place);
      const scale = part.box.height * this.report.zoom;
      for (const [side, dash] of [[point.pattern, []], [point.pattern + point.search, [5 * r, 4 * r]]]) {
        const half = (side * scale) / 2;
        pen.setLineDash(dash);
        for (const [colour, width] of [["rgb(0 0 0 / .7)", 3], ["#FFE27A", 1.4]]) {
          pen.strokeStyle = colour;
          pen.lineWidth = width * r;
          pen.strokeRect(x - half, y - half, 2 * half, 2 * half);
        }
      }
      pen.setLineDash([]);
      pen.beginPath();
      pen.arc(x, y, 2.5 * r, 0, 7);
      pen.fillStyle = "#FFE27A";
      pen.fill();
    });
  },
};
