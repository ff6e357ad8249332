// Tools of the Glass station: light and colours, found in the clip, or told by hand.
import { post, send, sendPixels } from "../lib/api.js";
import { component } from "../lib/component.js";
import { drawRadialCurves } from "../lib/radial-curve.js";
import { jobWords, settled } from "../lib/wait.js";
import { settings } from "../clip/settings.js";
import { live } from "../clip/live.js";
import { defaultsOf } from "../clip/treatment.js";

const RARELY = 300; // ms between looks at it
const WIDE = 192; // px of the picture whose light is looked at
const LEAST = 1; // stops, or px, that a scale reaches at least
const FLAT = [
  [0, 0],
  [100, 0],
];

component("glassTools", () => ({
  words: "",
  isLooking: false,

  get lightWords() {
    return this.$store.clip.state?.light_words ?? "";
  },

  /** @param {object} [even] a frame, or a photograph, of an even surface */
  async find(even) {
    const { clip } = this.$store;
    this.isLooking = true;
    this.words = even
      ? "A worker looks at how much darker the surface grows towards its edge …"
      : "A worker looks at how bright the same things are, near the middle and further out, and where colours part …";
    const found = await clip.guard(() =>
      settled(() => post(`${clip.base}/glass/find`, { limit: clip.treatment?.glass.limit, even }), {
        work: (answer) => answer.work,
        tell: (job) => {
          this.words = `Looking at light and colours: ${jobWords(job)}`;
        },
        failed: "Nothing was found of the glass.",
      }),
    );
    this.isLooking = false;
    this.words = found?.words ?? "";
    if (found?.settings) clip.adopt("glass", { ...found.settings, on: true }, true);
  },

  /** The wall that came with the demo shoot. */
  async demo() {
    const { clip } = this.$store;
    const answer = await clip.guard(() => post(`${clip.base}/demo-wall`));
    if (answer) await this.find(answer.photos[0]);
  },

  /** @param {Event} event */
  async photograph(event) {
    const input = /** @type {HTMLInputElement} */ (event.target);
    const [file] = input.files ?? [];
    input.value = "";
    if (!file) return;
    const { clip } = this.$store;
    this.words = `Taking in ${file.name} …`;
    const photo = await clip.guard(() => send(`${clip.base}/photos`, file));
    this.words = "";
    if (photo) await this.find(photo);
  },
}));

/**
 * Register a component that tells settings by numbers; the server says what they come to.
 * @param {string} name
 * @param {object} what
 * @param {string} what.route of the question
 * @param {string} what.told of the report, where its `hand` is
 * @param {string} what.like a setting of the group that is told
 * @param {Record<string, any>} what.unknown settings of what was not found
 */
function byHand(name, { route, told, like, unknown }) {
  const { group } = settings[`glass.${like}`];
  component(name, () => ({
    /** @type {Record<string, number> | null} what is being dragged to */
    wanted: null,
    /** @type {{ numbers: Record<string, number>, came: string } | null} the last, and what of it */
    made: null,
    asking: false,
    keep: false, // what is dragged to was let go
    /** @type {Record<string, number>} the numbers of nothing at all */
    none: {},

    init() {
      this.none = JSON.parse(this.$root.dataset.none ?? "{}");
    },

    get told() {
      return this.$store.clip.answer?.report[told] ?? null;
    },

    /** What there is of it, where it is folded away. */
    get state() {
      const corners = /** @type {Record<string, number>} */ (this.told?.corner_px ?? {});
      const most = Math.max(0, ...Object.values(corners).map(Math.abs));
      return most ? `${most.toFixed(1)} px` : "none";
    },

    /** What its settings are now, for comparing. */
    get now() {
      const { treatment } = this.$store.clip;
      const names = Object.keys(defaultsOf(settings, "glass", group));
      return JSON.stringify(names.map((name) => treatment?.glass[name]));
    },

    /** @returns {Record<string, number>} */
    get hand() {
      if (this.wanted) return this.wanted;
      // The numbers that were asked for stay, rather than be read off what they came to.
      if (this.made?.came === this.now) return this.made.numbers;
      return this.told?.hand ?? this.none;
    },

    /**
     * @param {Event} event
     * @param {string} name
     * @param {boolean} [done]
     */
    async shape(event, name, done = false) {
      const value = Number(/** @type {HTMLInputElement} */ (event.target).value);
      if (!Number.isFinite(value)) return;
      const { clip } = this.$store;
      this.wanted = { ...this.hand, [name]: value };
      this.keep = this.keep || done;
      // One question at a time; the last one is always asked.
      if (this.asking) return;
      this.asking = true;
      clip.going += 1;
      for (let asked = null; this.wanted !== asked || this.keep;) {
        asked = this.wanted;
        const { keep } = this;
        this.keep = false;
        const found = await clip.guard(() => post(`${clip.base}/glass/${route}`, asked));
        if (!found) break;
        this.adopt(found.settings, keep);
        this.made = { numbers: asked, came: this.now };
      }
      this.keep = false;
      this.wanted = null;
      this.asking = false;
      clip.going -= 1;
    },

    /**
     * @param {Event} event
     * @param {string} name
     */
    settle(event, name) {
      return this.shape(event, name, true);
    },

    /**
     * @param {Record<string, any>} found
     * @param {boolean} keep
     */
    adopt(found, keep) {
      this.$store.clip.adopt("glass", { ...found, on: true }, keep);
    },

    clear() {
      this.adopt({ ...defaultsOf(settings, "glass", group), ...unknown }, true);
    },
  }));
}

byHand("lightByHand", {
  route: "light",
  told: "glass",
  like: "loss_r2",
  unknown: { found_by: "nothing", doubt: null },
});

byHand("coloursByHand", {
  route: "colours",
  told: "colours",
  like: "red_r",
  unknown: { colour_found_by: "nothing", colour_doubt: null },
});

component("haloState", () => ({
  get state() {
    const much = this.$store.clip.treatment?.glass.halo ?? 0;
    return much ? `${much} %` : "off";
  },
}));

component("deadCorners", () => ({
  get told() {
    return this.$store.clip.answer?.report.dead ?? null;
  },

  get state() {
    return this.told ? `${(100 * this.told.share).toFixed(1)} %` : "none";
  },

  get words() {
    if (!this.told) return "None are known: all of the picture is used.";
    const share = (100 * this.told.share).toFixed(1);
    return `${share} % of the picture. Hiding them takes zoom × ${this.told.zoom.toFixed(2)}.`;
  },

  clear() {
    this.$store.clip.adopt("glass", { live: [] }, true);
  },
}));

// What is brought back, and by how much the frame on show is darker than in its middle.
component("glassCurve", () => ({
  seen: /** @type {[number, number | null][]} */ ([]),
  asking: false,
  again: false,

  init() {
    const { clip } = this.$store;
    window.Alpine.effect(() => {
      const curve = clip.answer?.report.glass?.curve ?? FLAT;
      const most = Math.max(LEAST, ...curve.map((/** @type {number[]} */ point) => point[1]));
      // What is in the picture may change more than any glass: only what the scale has room for.
      const points = this.seen.map(([away, lost]) => {
        const shown = lost !== null && lost <= 1.5 * most && lost >= -0.5 * most;
        return [away, shown ? lost : null];
      });
      drawRadialCurves(this.$root, [{ points, kind: "curve-seen" }, { points: curve }], {
        least: LEAST,
        named: (high) => `+${high.toFixed(1)}`,
        middle: "middle",
      });
    });
    window.Alpine.effect(() => {
      if (clip.station !== "glass" || !clip.ready) return;
      const now = [clip.frame, clip.answered];
      if (now) queueMicrotask(() => this.look());
    });
  },

  /** One question at a time, and not many; the last one is always asked. */
  async look() {
    this.again = this.asking;
    if (this.asking) return;
    this.asking = true;
    await new Promise((done) => setTimeout(done, RARELY));
    const { clip } = this.$store;
    const { centre_x: x, centre_y: y, roundness: round } = clip.treatment?.glass ?? {};
    const small = live.stage?.small(WIDE);
    let told = null;
    try {
      told = small && (await sendPixels("/scopes", small, { x, y, round }));
    } catch {
      // Nobody asked for it; and what was asked for may have a problem that stays to be read.
    }
    this.asking = false;
    const lost = /** @type {(number | null)[]} */ (told?.parts[0].lost ?? []);
    this.seen = lost.map((stops, k) => [(100 * (k + 0.5)) / lost.length, stops]);
    if (this.again) await this.look();
  },
}));

component("colourCurves", () => ({
  init() {
    const { clip } = this.$store;
    window.Alpine.effect(() => {
      const curves = clip.answer?.report.colours?.curves ?? { red: FLAT, blue: FLAT };
      drawRadialCurves(
        this.$root,
        [
          { points: curves.red, kind: "curve-red" },
          { points: curves.blue, kind: "curve-blue" },
        ],
        { least: LEAST, named: (high) => high.toFixed(1), middle: "middle" },
      );
    });
  },
}));
