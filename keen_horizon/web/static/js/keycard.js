// The keyframes at the frame on show: copied, moved, deleted, smooth or straight. Mixed into the clip
// screen.
import { parts } from "./parts.js";

const words = (name) => name.split(".")[1].replaceAll("_", " ");

export const keycard = {
  reflectKeyCard(at) {
    const here = Object.entries(this.treatment.keys).flatMap(([name, keys]) => keys.filter((key) => key.frame === at).map((key) => ({ name, ...key })));
    this.keysHere = here.length;
    this.keysWords = here.map(({ name, value }) => `${words(name)} ${Math.round(value * 100) / 100}`).join(", ");
    this.keysSmooth = here.length > 0 && here.every((key) => key.smooth);
    this.listCorners();
  },

  dropKey(name, frame) {
    const [station, key] = name.split(".");
    const keys = this.keysOf(name);
    const rest = keys.filter((one) => one.frame !== frame);
    // The last one leaves its value behind.
    if (!rest.length && keys.length) this.treatment[station][key] = keys[0].value;
    if (rest.length) this.treatment.keys[name] = rest;
    else delete this.treatment.keys[name];
  },

  namesAt(frame) {
    return Object.keys(this.treatment.keys).filter((name) => this.keysOf(name).some((key) => key.frame === frame));
  },

  deleteKeys() {
    const at = this.frame + this.firstFrame;
    for (const name of this.namesAt(at)) this.dropKey(name, at);
    this.solve(true);
  },

  copyKeys() {
    const at = this.frame + this.firstFrame;
    this.copied = this.namesAt(at).map((name) => ({ name, ...this.keysOf(name).find((key) => key.frame === at) }));
    this.canPaste = this.copied.length > 0;
  },

  pasteKeys() {
    const at = this.frame + this.firstFrame;
    for (const { name, value, smooth } of this.copied) {
      this.putKey(name, at, value);
      this.keysOf(name).find((key) => key.frame === at).smooth = smooth;
    }
    this.solve(true);
  },

  smoothKeys() {
    const at = this.frame + this.firstFrame;
    const smooth = !this.keysSmooth;
    for (const name of this.namesAt(at)) this.keysOf(name).find((key) => key.frame === at).smooth = smooth;
    this.solve(true);
  },

  // All keys of a frame, dragged along the strip to another.
  moveKeys(from, to) {
    if (from === to) return;
    for (const name of this.namesAt(from)) {
      const key = this.keysOf(name).find((one) => one.frame === from);
      const rest = this.keysOf(name).filter((one) => one.frame !== from && one.frame !== to);
      this.treatment.keys[name] = [...rest, { ...key, frame: to }].sort((a, b) => a.frame - b.frame);
    }
    parts.stage.seek(to);
    this.solve(true);
  },
};
