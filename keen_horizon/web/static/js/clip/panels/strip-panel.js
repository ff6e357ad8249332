// The strip's panel: the component of the path on show, and what the lines measure.
import { unpack } from "../../lib/api.js";
import { component } from "../../lib/component.js";
import { live } from "../live.js";
import { mostOf } from "../strip/lines.js";
import { Strip } from "../strip/strip.js";
import { moveKeys } from "../treatment.js";

/** @param {Record<string, string>} lines */
const unpacked = (lines) =>
  Object.fromEntries(Object.entries(lines).map(([name, text]) => [name, unpack(text)]));

component("stripPanel", () => ({
  component: "",
  roomWords: "",
  blurWords: "",
  damageWords: "",
  lentWords: "",

  init() {
    const { clip } = this.$store;
    live.strip = new Strip(this.$refs.strip, this.$refs.playhead, {
      go: (at) => live.clock.seek(clip.first + at),
      moveKeys: (from, to) => this.moveKeys(clip.first + from, clip.first + to),
    });
    document.addEventListener("keen:light", () => live.strip.draw());
    window.Alpine.effect(() => live.strip.go(clip.at));
    window.Alpine.effect(() => {
      if (clip.answer?.whole) this.take(clip.answer, clip.first, clip.last);
    });
    window.Alpine.effect(() => {
      live.strip.setLoop(clip.loop && [clip.loop[0] - clip.first, clip.loop[1] - clip.first]);
    });
  },

  /**
   * @param {Answer} answer
   * @param {number} first
   * @param {number} last frames of the range
   */
  take({ strip, report, stations, damaged }, first, last) {
    const [lent, room, held] = [strip.borrowed, strip.room, strip.held].map((line) =>
      line ? unpack(line) : null,
    );
    const tightest = stations.frame?.figures.find((figure) => figure.frame !== null);
    const keys = Object.values(this.$store.clip.answer?.treatment.keys ?? {}).flat();
    live.strip.set(
      {
        before: unpacked(strip.before),
        after: unpacked(strip.after),
        room,
        confidence: unpack(strip.confidence),
        weak: unpack(strip.weak),
        blurred: unpack(strip.blurred),
        borrowed: lent,
        held,
        cuts: strip.cuts,
        damaged,
        keys: [...new Set(keys.map((key) => key.frame - first))],
        times: live.clock.times.subarray(first, last + 1),
        tightest: tightest?.frame ? tightest.frame - first : null,
      },
      last - first + 1,
    );
    this.roomWords = room ? `room left, up to ${Math.round(mostOf(room, 0))} px` : "";
    const blurred = report.blurred_frames.length;
    this.blurWords = blurred ? `▲ ${blurred} blurred` : "";
    this.damageWords = damaged.length ? `× ${damaged.length} damaged` : "";
    this.lentWords = lent ? `borrowed, up to ${(100 * mostOf(lent, 0)).toFixed(1)} %` : "";
    if (!(this.component in strip.before)) this.component = live.strip.telling();
    live.strip.show(this.component);
  },

  show() {
    live.strip.show(this.component);
  },

  /**
   * @param {number} from frames of the recording
   * @param {number} to
   */
  moveKeys(from, to) {
    live.clock.seek(to);
    this.$store.clip.edit((treatment) => moveKeys(treatment, from, to));
  },
}));
