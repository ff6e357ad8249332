// Frame: keyed settings, the output's size and shape, zoom over time. Mixed into the clip screen.
import { parts } from "./parts.js";

const EASED = 70; // percent of the calm given up at the moment that is eased
const EASE_SECONDS = 0.8; // on either side of it
// What a keyable setting is called on the page.
const CORNERS = ["top_left", "top_right", "bottom_right", "bottom_left"];
const NOW = {
  "lens.amount": "amountNow",
  "lens.focal": "focalNow",
  "lens.centre_x": "centreXNow",
  "lens.centre_y": "centreYNow",
  "motion.ease": "easeNow",
  "frame.zoom_ceiling": "ceilingNow",
  "frame.zoom_speed": "speedNow",
  "frame.extra_zoom": "extraNow",
  "frame.offset_x": "offsetXNow",
  "frame.offset_y": "offsetYNow",
  "frame.turn": "turnNow",
  "frame.pull_left": "pullLeftNow",
  "frame.pull_right": "pullRightNow",
  "frame.pull_top": "pullTopNow",
  "frame.pull_bottom": "pullBottomNow",
  "frame.swell": "swellNow",
  "frame.swell_x": "swellXNow",
  "frame.swell_y": "swellYNow",
  "frame.swell_radius": "swellRadiusNow",
};

export { CORNERS, NOW };

export const framing = {
  // The value of a keyable setting at the frame on show.
  keyedValue(name) {
    const line = this.keyedLines && this.keyedLines[name];
    const [station, key] = name.split(".");
    const value = line && this.keysOf(name).length ? line[this.frame] : this.treatment[station][key];
    return Math.round(value * 1000) / 1000;
  },

  keysOf(name) {
    return (this.treatment && this.treatment.keys[name]) || [];
  },

  reflectKeyed() {
    if (!this.treatment) return;
    const at = this.frame + this.firstFrame;
    for (const [name, where] of Object.entries(NOW)) {
      const keys = this.keysOf(name);
      this[where] = { name, keyed: keys.length > 0, here: keys.some((key) => key.frame === at), value: this.keyedValue(name) };
    }
    this.reflectKeyCard(at);
  },

  // A keyed setting is changed at the frame on show, another for the whole clip.
  slideKeyed(name, event, settled) {
    const value = Number(event.target.value);
    if (event.target.value === "" || Number.isNaN(value)) {
      event.target.value = this.keyedValue(name);
      return;
    }
    if (this.keysOf(name).length) this.putKey(name, this.frame + this.firstFrame, value);
    else {
      const [station, key] = name.split(".");
      this.treatment[station][key] = value;
    }
    if (name.startsWith("lens.") && name !== "lens.amount") Object.assign(this.treatment.lens, { found_by: "numbers", residual: null });
    if (name.startsWith("frame.pull_")) this.pullTwin(name, value);
    this.solve(settled, !settled);
  },

  putKey(name, frame, value) {
    const old = this.keysOf(name).find((key) => key.frame === frame);
    const rest = this.keysOf(name).filter((key) => key.frame !== frame);
    this.treatment.keys[name] = [...rest, { frame, value, smooth: old ? old.smooth : true }].sort((a, b) => a.frame - b.frame);
  },

  toggleKey(name) {
    const frame = this.frame + this.firstFrame;
    const [station, key] = name.split(".");
    const keys = this.keysOf(name);
    if (!keys.some((one) => one.frame === frame)) this.putKey(name, frame, this.keyedValue(name));
    else {
      const rest = keys.filter((one) => one.frame !== frame);
      // The last one leaves its value behind.
      if (!rest.length) this.treatment[station][key] = keys[0].value;
      if (rest.length) this.treatment.keys[name] = rest;
      else delete this.treatment.keys[name];
    }
    this.solve(true);
  },

  clearKeys(name) {
    delete this.treatment.keys[name];
    this.solve(true);
  },

  keyFrames() {
    if (!this.treatment) return [];
    const frames = Object.values(this.treatment.keys).flatMap((keys) => keys.map((key) => key.frame));
    return [...new Set(frames)].sort((a, b) => a - b);
  },

  goKey(way) {
    const at = this.frame + this.firstFrame;
    const found = way > 0 ? this.keyFrames().find((frame) => frame > at) : this.keyFrames().reverse().find((frame) => frame < at);
    if (found === undefined) return;
    parts.stage.pause();
    parts.stage.seek(found);
  },

  // Give up calm around a moment, and only there.
  easeMoment(at) {
    const { times } = parts.stage;
    const near = (seconds) => Math.max(this.firstFrame, Math.min(this.lastFrame, parts.stage.frameAt(times[at] + seconds)));
    const usual = this.keysOf("motion.ease").length ? null : this.treatment.motion.ease;
    for (const frame of [near(-EASE_SECONDS), near(EASE_SECONDS)]) {
      if (frame !== at && !this.keysOf("motion.ease").some((key) => Math.abs(key.frame - frame) < 3)) {
        this.putKey("motion.ease", frame, usual ?? this.keyedLines["motion.ease"][frame - this.firstFrame]);
      }
    }
    this.putKey("motion.ease", at, EASED);
    this.solve(true);
  },

  easeHere() {
    this.easeMoment(this.frame + this.firstFrame);
  },

  easeTightest() {
    this.goTightest();
    this.easeMoment(this.report.tightest_frame);
  },

  // --- the output's canvas ----------------------------------------------------------------------

  setSize(key, event) {
    const text = event.target.value.trim();
    this.treatment.frame[key] = text === "" ? null : Number(text);
    this.solve(true);
  },

  sourceSize() {
    this.treatment.frame.width = this.treatment.frame.height = null;
    this.solve(true);
  },

  setShape(event) {
    this.treatment.frame.trim_shape = event.target.value.trim() || "source";
    this.solve(true);
  },

  // --- zoom over time ---------------------------------------------------------------------------

  drawZoom(zoom) {
    const svg = this.$refs.zoomLine;
    const least = zoom.reduce((a, b) => Math.min(a, b), Infinity);
    const most = zoom.reduce((a, b) => Math.max(a, b), 0);
    const mean = zoom.reduce((a, b) => a + b, 0) / zoom.length;
    this.zoomChanges = most - least > 1e-4;
    this.zoomSpan = this.zoomChanges ? `zoom × ${least.toFixed(3)} to ${most.toFixed(3)}, mean ${mean.toFixed(3)}` : `zoom × ${most.toFixed(3)} throughout`;
    const every = Math.max(1, Math.floor(zoom.length / 300));
    const span = Math.max(most - least, 1e-6);
    let path = "";
    for (let i = 0; i < zoom.length; i += every) path += `${i ? "L" : "M"}${((i / (zoom.length - 1)) * 240).toFixed(1)} ${(36 - ((zoom[i] - least) / span) * 32).toFixed(1)}`;
    svg.querySelector("path").setAttribute("d", path);
  },
};
