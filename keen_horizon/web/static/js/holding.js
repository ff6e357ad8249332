// Holding points: placing them, seeing them followed, where they are held. Mixed into the clip screen.
import { unpack } from "./api.js";
import { parts } from "./parts.js";

const BOX = { pattern: 0.08, search: 0.08 };

export const holding = {
  holdPoints() {
    const { stage } = this.$refs;
    stage.addEventListener("pointerdown", (event) => {
      if (event.button || !this.holding || event.target.closest("button")) return;
      const { left, top } = stage.getBoundingClientRect();
      const [x, y] = [(event.clientX - left) * parts.stage.ratio, (event.clientY - top) * parts.stage.ratio];
      this.placeHeld(x, y);
    });
    parts.stage.markings.more = (pen, part) => this.drawHeld(pen, part);
  },

  placeHeld(x, y) {
    const { motion } = this.treatment;
    const round = (value) => Math.round(value * 1e5) / 1e5;
    const at = parts.stage.sourceAt(x, y).map(round);
    const frame = parts.stage.frame;
    const what = this.holding;
    this.holding = null;
    if (what === "new") motion.hold.push({ frame, at, ...BOX, again: [] });
    else if (what === "place") {
      // Where the output shows it, before the zoom.
      const { box } = parts.stage.partAt(x, y);
      const zoom = this.report.zoom;
      motion.hold_at = [0.5 + ((x - box.left) / box.width - 0.5) / zoom, 0.5 + ((y - box.top) / box.height - 0.5) / zoom].map(round);
    } else {
      const point = motion.hold[what];
      if (point.frame === frame) point.at = at;
      else point.again = [...point.again.filter((one) => one.frame !== frame), { frame, at }].sort((a, b) => a.frame - b.frame);
    }
    this.solve(true);
  },

  wantPlace(what) {
    this.holding = this.holding === what ? null : what;
    this.lassoing = false;
    parts.stage.pause();
    this.holdHint = { new: "Click a corner or a spot with contrast.", place: "Click where the point is to be held." }[what] || "Click where the point is in this frame.";
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
