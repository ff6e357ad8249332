// The clip screen: holds the treatment, asks the server to solve it, and keeps the parts in step.
import { gaveUp, get, post, unpack } from "./api.js";
import { cabinet } from "./cabinet.js";
import { calming } from "./calming.js";
import { comparing } from "./comparing.js";
import { dividing } from "./divider.js";
import { edging } from "./edging.js";
import { framing } from "./framing.js";
import { RULING } from "./grid.js";
import { holding } from "./holding.js";
import { keycard } from "./keycard.js";
import { keying } from "./keys.js";
import { lensing } from "./lensing.js";
import { marking } from "./marking.js";
import { parts } from "./parts.js";
import { pricing } from "./pricing.js";
import { ranging } from "./range.js";
import { revising } from "./revising.js";
import { ruling } from "./ruling.js";
import { shaping } from "./shaping.js";
import { shuttering } from "./shuttering.js";
import { Stage } from "./stage.js";
import { Strip } from "./strip.js";
import { viewing } from "./viewing.js";
import { waiting } from "./waiting.js";
import { Lattice } from "./warp.js";

const AIM_HINTS = {
  follow: "Keep the move, lose the shake.",
  lock_off: "As from a tripod, room allowing.",
  hold: "Keep a point still in the frame.",
};
const MODEL_HINTS = {
  shift: "Across and up-down only.",
  similarity: "As a whole; nothing is bent.",
  perspective: "Keystone and shear too.",
  rotation: "What turning the camera does to this lens's picture.",
  mesh: "Each part of the picture by itself, for parallax.",
  decide: "",
};
const EDGE_HINTS = {
  leave: "Bare edges stay black: see what the correction does.",
  trim: "A smaller output without bare edges; nothing is scaled.",
  fill: "Zoom until no edge is bare.",
  borrow: "From neighbouring frames; hatched here, filled in what is exported.",
};

const FOLDS = ["gridFold", "squareFold", "pullFold", "swellFold", "coverFold", "marksFold", "versionsFold", "copyFold", "rangeFold"]; // parts of the tools that can be closed
const VIEW = ["grid", "bare", "marks", "dotSize", "trail", "ruling"]; // what a person has set for themselves

document.addEventListener("alpine:init", () => {
  window.Alpine.data("clip", () => ({
    ...viewing,
    ...cabinet,
    ...calming,
    ...comparing,
    ...dividing,
    ...edging,
    ...framing,
    ...holding,
    ...pricing,
    ...ranging,
    ...revising,
    ...keycard,
    ...keying,
    ...lensing,
    ...marking,
    ...ruling,
    ...shaping,
    ...shuttering,
    ...waiting,
    ready: false, phase: "", problem: "", note: "", help: false,
    lensOn: true, lensWords: "…", lensWarning: "", way: "angle", bentWords: "", straightViewWords: "", fitWords: "", bendsRays: false, hasK1: false, hasK2: false, hasK4: false, hasP: false,
    dialAngle: null, dialTurned: false, toldFor: "this", amountNow: {}, focalNow: {}, centreXNow: {}, centreYNow: {},
    houseLenses: [], cabinetWords: "", lensName: "", lensCamera: "", lensLens: "", lensMode: "", newer: null, newerWords: "",
    boardColumns: 9, boardRows: 6, chartPaper: "A4", chartWords: "", chartViews: [], chartSettings: null, chartCovered: false,
    tracing: false, traceWords: "", pins: [], proposing: false, proposed: [], edgeList: [], edgeWords: [], edgeModel: "", litEdge: null, levelWords: "", levels: [],
    ruling: { ...RULING }, horizon: null, horizonWords: "", horizonTilt: null,
    turnNow: {}, cornering: false, cornerList: [], cornersNow: {}, squared: false, pairAcross: true, pairDown: true, pullLeftNow: {}, pullRightNow: {}, pullTopNow: {}, pullBottomNow: {}, pullWords: "", stretchWords: "",
    swellNow: {}, swellXNow: {}, swellYNow: {}, swellRadiusNow: {}, swellOpen: false, swellWords: "", coverWords: "", canvasCeiling: 8192,
    keysHere: 0, keysWords: "", keysSmooth: false, canPaste: false, copied: [],
    station: "motion", shutterOn: true, shutterWords: "…", readoutWords: "", straightWords: "", cameras: [], cameraName: "", motionOn: true, frameOn: true, calm: 40,
    aimHint: "", calmHint: "", edgeHint: "",
    motionWords: "…", frameWords: "…", motionWarning: "", frameWarning: "", sourceWords: "", outputWords: "",
    mode: "treated", grid: false, bare: true, marks: false, dotSize: 4, trail: 8,
    lassoing: false, holding: null, litGroup: null, groups: [], asides: [], only: null, onlyWords: "", advice: "", advised: null,
    groupWords: "", marksWords: "", closer: false, closerWords: "", groupMarks: [], asideMarks: [], steering: "",
    againstId: "", againstName: "Original", loopFirst: null, loopLast: null, loopWords: "", detail: "",
    others: [], stationsToCopy: [], copyWords: "",
    why: "", modelHint: "", bends: false, asksAngle: false, decides: false, stiff: false, lockFrame: "", lockOffer: "", lockedOff: false,
    easeNow: {}, ceilingNow: {}, speedNow: {}, extraNow: {}, offsetXNow: {}, offsetYNow: {}, zoomSpan: "", zoomName: "Zoom", zoomChanges: false,
    isFill: true, isBorrow: false, covers: true, isTrim: false, isLeave: false, drifts: false,
    holds: false, heldList: [], mayHold: true, heldPlaces: null, heldWords: "", furthest: "", holdHint: "",
    wobbleWords: "", wobbleHigh: false, blurWords: "",
    playing: false, hasSound: false, soundOn: false, frame: 0, lastIndex: 1, clock: "",
    component: "",
    keptWords: "–", zoomWords: "–", softWords: "–", shakeWords: "–", stabilityWords: "–", tightWords: "", keptNote: "",
    keptLow: false, softLow: false,
    linked: true, calms: [], starts: [], curveWords: "", priced: "",
    versions: [], versionName: "", versionWords: "", canUndo: false, canRedo: false, revisionWords: "",
    frameCount: 0, firstFrame: 0, lastFrame: 0, rangeWords: "",
    waitTitle: "Opening", waitWords: "", waitDone: 0, waitTotal: 0, waitFrames: "", waitRetry: false, waitCancel: false,
    treatment: null,

    init() {
      this.base = `/clips/${this.$root.dataset.clip}`;
      this.restore();
      try {
        parts.stage = new Stage({
          picture: this.$refs.picture, overlay: this.$refs.overlay, video: this.$refs.video,
          changed: (frame) => this.moved(frame),
        });
      } catch (error) {
        this.problem = error.message;
        return;
      }
      parts.strip = new Strip(this.$refs.strip, this.$refs.playhead, {
        go: (at) => parts.stage.seek(this.firstFrame + at),
        moveKeys: (from, to) => this.moveKeys(this.firstFrame + from, this.firstFrame + to),
      });
      for (const name of ["play", "pause"]) {
        this.$refs.video.addEventListener(name, () => { this.playing = !this.$refs.video.paused; });
      }
      this.$refs.video.addEventListener("error", () => {
        if (this.$refs.video.src) this.problem = "The proxy cannot be played in this browser.";
      });
      document.addEventListener("keen:light", () => parts.strip.resize());
      this.holdGrips();
      this.holdEdges();
      this.holdDivider();
      this.holdDial();
      this.holdShapes();
      this.holdHorizon();
      this.holdRange();
      this.holdChart();
      this.holdMarks();
      this.holdDetail();
      this.holdPoints();
      for (const name of ["mode", "grid", "bare"]) parts.stage[name] = this[name];
      parts.stage.ruling = { ...this.ruling };
      Object.assign(parts.stage.markings, { on: this.marks, dotSize: this.dotSize, trail: this.trail });
      window.keen = parts; // for tests and the curious
      this.look();
    },

    // Views and overlays are a person's own: kept in this browser.
    restore() {
      const kept = JSON.parse(localStorage.getItem("keen-view") || "{}");
      for (const name of VIEW) if (name in kept) this[name] = kept[name];
      for (const name of FOLDS) this.$refs[name].open = Boolean(kept[name]);
    },

    remember() {
      const view = Object.fromEntries(VIEW.map((name) => [name, this[name]]));
      const folds = Object.fromEntries(FOLDS.map((name) => [name, this.$refs[name].open]));
      localStorage.setItem("keen-view", JSON.stringify({ ...view, ...folds }));
    },

    fold(event) {
      this.remember();
      if (event.target.open) event.target.scrollIntoView({ block: "nearest" });
    },

    // --- where the clip stands -------------------------------------------------------------------

    async look() {
      clearTimeout(this.timer);
      try {
        const state = await get(`${this.base}/state`);
        await this.take(state);
      } catch (error) {
        this.problem = error.message;
        this.timer = setTimeout(() => this.look(), 3000);
      }
    },

    async take(state) {
      this.phase = state.phase;
      if (state.frame_count) await this.takeRecording(state);
      if (state.phase === "ready") {
        this.takeCloser(state.closer);
        if (!this.ready) await this.open();
        return;
      }
      this.ready = false;
      this.wait(state);
      const work = state.work;
      if (state.phase !== "refused" && !gaveUp(work)) this.timer = setTimeout(() => this.look(), 500);
    },

    async takeRecording(state) {
      this.sourceWords = state.source_words;
      this.hasSound = state.sound;
      this.frameCount = state.frame_count;
      this.firstFrame = this.firstWanted = state.first;
      this.lastFrame = this.lastWanted = state.last;
      this.lastIndex = state.last - state.first;
      this.rangeWords = `${state.last - state.first + 1} of ${state.frame_count} frames`;
      this.placeRange();
      parts.stage.source = { width: state.width, height: state.height, aspect: state.pixel_aspect };
      if (!this.ready) parts.stage.untreated(); // something to look at while it is measured
      parts.stage.first = state.first;
      parts.stage.last = state.last;
      if (!this.timed) {
        this.timed = true;
        parts.stage.times = unpack((await get(`${this.base}/timing`)).times, Float64Array);
        this.$refs.video.src = state.proxy;
      }
    },

    async open() {
      const solved = await get(`${this.base}/solution?near=${this.frame}`);
      this.ready = true;
      parts.stage.markings.clear();
      this.steering = "";
      this.apply(solved);
      this.setLoop(null, null);
      document.dispatchEvent(new Event("keen:work"));
      parts.stage.seek(this.firstFrame);
      if (!matchMedia("(prefers-reduced-motion: reduce)").matches) parts.stage.play();
    },

    // --- the treatment ---------------------------------------------------------------------------

    is(part, key, value) {
      return Boolean(this.treatment && this.treatment[part][key] === value);
    },

    choose(part, key, value) {
      this.treatment[part][key] = value;
      this.solve(true);
    },

    slide(part, key, event) {
      this.treatment[part][key] = Number(event.target.value);
      this.reflect();
      this.solve(false, true);
    },

    tick(part, key, event) {
      this.treatment[part][key] = event.target.checked;
      this.solve(true);
    },

    setText(part, key, event) {
      const text = event.target.value.trim();
      this.treatment[part][key] = text === "" ? null : Number(text);
      this.solve(true);
    },

    set(part, key, event) {
      const value = Number(event.target.value);
      if (event.target.value === "" || Number.isNaN(value)) {
        event.target.value = this.treatment[part][key];
        return;
      }
      this.treatment[part][key] = value;
      this.solve(true);
    },

    toggleStation(part) {
      if (!this.ready) return;
      this.treatment[part].on = !this.treatment[part].on;
      this.solve(true);
    },

    stationClass(part) {
      const on = { lens: this.lensOn, shutter: this.shutterOn, motion: this.motionOn, frame: this.frameOn }[part];
      return `${this.station === part ? "is-open" : ""} ${on ? "" : "is-off"}`;
    },

    // One request at a time; while one is under way only the newest wish is kept.
    // `sliding`: the next wish is on its way, and only what is near the playhead matters.
    async solve(keep, sliding = false) {
      keep ||= Boolean(this.wish && this.wish.keep);
      parts.strip.showKeys(this.keyFrames().map((frame) => frame - this.firstFrame));
      this.wish = { keep, sliding: sliding && !keep, treatment: JSON.stringify(this.treatment) };
      if (this.solving) return;
      this.solving = true;
      while (this.wish) {
        const wish = this.wish;
        this.wish = null;
        try {
          const asked = { treatment: JSON.parse(wish.treatment), keep: wish.keep, sliding: wish.sliding };
          const answer = await post(`${this.base}/treatment?near=${this.frame}`, asked);
          this.problem = "";
          this.kept = wish.keep ? answer.treatment : this.kept;
          if (!this.wish) this.apply(answer, !wish.keep);
        } catch (error) {
          this.problem = error.message;
          if (this.kept) this.treatment = JSON.parse(JSON.stringify(this.kept));
          this.reflect();
        }
      }
      this.solving = false;
    },

    apply(answer, sliding = false) {
      clearTimeout(this.again);
      this.canUndo = answer.steps.undo;
      this.canRedo = answer.steps.redo;
      this.revisionWords = `revision ${answer.revision}`;
      this.takeVersions(answer.versions);
      if (!sliding) {
        // The same treatment again must not disturb what is being typed.
        const same = JSON.stringify(answer.treatment) === JSON.stringify(this.treatment);
        if (!same) this.treatment = JSON.parse(JSON.stringify(answer.treatment));
        this.kept = answer.treatment;
      }
      this.reflect();
      if (gaveUp(answer.solving)) {
        this.problem = answer.solving.message || "The solve was cancelled.";
        return;
      }
      let note = "";
      if (answer.solving) {
        // A worker is at it, and we ask again; of a long clip, what is near is there already.
        const following = this.treatment.motion.aim === "hold";
        const far = answer.solving.total ? ` ${Math.round((100 * answer.solving.done) / answer.solving.total)} %` : " …";
        note = following ? `Following the point${far}` : `Solving all ${this.lastIndex + 1} frames …`;
        this.again = setTimeout(() => this.solve(false), 400);
        if (!answer.report) {
          this.note = note;
          return;
        }
      }
      this.showReport(answer.report, answer.words);
      this.takeLens(answer);
      this.takeNewer(answer.newer);
      const at = answer.first - this.firstFrame; // a window of a long clip starts later
      this.takeLattice(answer.lattice, at);
      parts.stage.output = { ...answer.report.output, aspect: answer.report.output.pixel_aspect };
      parts.stage.draw();
      parts.chart.present(answer.report.picture_kept, answer.report.shake_after);
      if (!sliding) this.price();
      if (note) this.note = note;
      else this.takeStrip(answer);
      this.reflectKeyed();
      this.shownAt = performance.now();
      this.takeSteering(answer.steering, sliding);
    },

    takeStrip(answer) {
      const lines = (set) => Object.fromEntries(Object.entries(set).map(([name, text]) => [name, unpack(text)]));
      this.takeHold(answer.strip, answer.report);
      const { before, after, room, confidence, blurred, cuts, zoom, keyed, view } = answer.strip;
      this.keyedLines = lines(keyed);
      this.viewLine = unpack(view);
      parts.strip.borrowed = answer.strip.borrowed ? unpack(answer.strip.borrowed) : null;
      const keys = this.keyFrames().map((frame) => frame - this.firstFrame);
      parts.strip.set(
        { before: lines(before), after: lines(after), room: unpack(room), confidence: unpack(confidence), blurred: unpack(blurred), cuts, keys, times: parts.stage.times.subarray(this.firstFrame, this.lastFrame + 1) },
        this.lastIndex + 1,
        answer.report.zoom > 1 || answer.report.picture_kept < 99.95 ? answer.report.tightest_frame - this.firstFrame : null,
      );
      if (!this.component) this.component = parts.strip.telling();
      parts.strip.show(this.component);
      this.drawZoom(unpack(zoom));
    },

    takeLattice({ columns, rows, nodes, start }, from = 0) {
      parts.stage.lattice = new Lattice(columns, rows, unpack(nodes), start + from);
    },

    // The lattice of a long clip that bends comes in pieces: the next one, if it is needed.
    async followLattice() {
      if (this.fetchingLattice || parts.stage.lattice.holds(this.frame) || this.wish || this.solving) return;
      this.fetchingLattice = true;
      await this.guard(async () => {
        const { lattice } = await get(`${this.base}/lattice?near=${this.frame}`);
        if (lattice) this.takeLattice(lattice);
        parts.stage.draw();
      });
      this.fetchingLattice = false;
    },

    reflect() {
      const { shutter, motion, frame } = this.treatment;
      this.shutterOn = shutter.on;
      this.motionOn = motion.on;
      this.frameOn = frame.on;
      this.calm = motion.calm;
      this.reflectCalms();
      this.aimHint = AIM_HINTS[motion.aim];
      this.edgeHint = EDGE_HINTS[frame.edge];
      this.reflectHold();
      this.reflectLens();
      this.squared = frame.square_up;
      this.swellWords = frame.swell === 1 ? "" : `× ${frame.swell}`;
      this.lockedOff = motion.aim === "lock_off";
      this.modelHint = MODEL_HINTS[motion.model];
      this.bends = ["mesh", "perspective", "rotation", "decide"].includes(motion.model);
      this.asksAngle = ["rotation", "decide"].includes(motion.model) && !(this.treatment.lens.on && this.treatment.lens.model !== "rectilinear");
      this.decides = motion.model === "decide";
      this.stiff = ["mesh", "decide"].includes(motion.model);
      this.isBorrow = frame.edge === "borrow";
      this.covers = ["fill", "borrow"].includes(frame.edge);
      [this.isFill, this.isTrim, this.isLeave] = ["fill", "trim", "leave"].map((edge) => frame.edge === edge);
      this.reflectKeyed();
    },

    useFollow() {
      this.choose("motion", "aim", "follow");
    },

    lockHere() {
      this.treatment.motion.lock_frame = this.frame + this.firstFrame;
      this.solve(true);
    },

    showReport(report, words) {
      this.report = report;
      this.shutterWords = words.shutter;
      this.straightWords = words.straight;
      this.motionWords = words.motion;
      this.frameWords = words.frame;
      this.motionWarning = words.motion_warning || "";
      this.frameWarning = words.frame_warning || "";
      this.outputWords = `${report.output.width} × ${report.output.height}`;
      this.keptWords = `${report.picture_kept.toFixed(1)} %`;
      const drifts = report.zoom - report.zoom_mean > 5e-4;
      this.zoomName = drifts ? "Zoom, mean to most" : "Zoom";
      this.zoomWords = drifts ? `× ${report.zoom_mean.toFixed(3)} to ${report.zoom.toFixed(3)}` : `× ${report.zoom.toFixed(3)}`;
      this.softWords = report.pixels_per_output_pixel.toFixed(3);
      this.shakeWords = `${words.shake.before} → ${words.shake.after}`;
      this.stabilityWords = `${report.stability_score_before.toFixed(2)} → ${report.stability_score.toFixed(2)}`;
      this.why = words.why;
      this.pullWords = words.pulled;
      this.stretchWords = words.stretched;
      this.wobbleWords = words.wobble || "–";
      this.wobbleHigh = report.wobble_after !== null && report.wobble_after > Math.max(this.treatment.motion.wobble_limit, report.shake_accuracy);
      const blurred = report.blurred_frames.length;
      this.blurWords = blurred ? `${blurred} blurred` : "";
      const lock = report.locking;
      this.lockFrame = lock ? `view of frame ${lock.frame}` : "";
      this.lockOffer = lock && (lock.zoom === null || lock.zoom > this.treatment.frame.zoom_ceiling) ? `To hold this view still keeps ${lock.picture_kept.toFixed(0)} % of the picture.` : "";
      this.keptLow = report.picture_kept < 70;
      this.softLow = report.pixels_per_output_pixel < 0.8;
      const costs = report.picture_kept < 99.95;
      this.tightWords = costs ? `${report.tightest_frame}` : "";
      // Warnings have their marks on the light path; the rest is said over the picture.
      const warned = Object.values(report.warnings).flat();
      this.note = report.notes.filter((words) => !warned.includes(words)).join(" ");
      const removed = words.removed ? `${words.removed} of the shake removed` : "no shake removed";
      this.keptNote = `${report.picture_kept.toFixed(0)} % of the picture kept, ${removed}.`;
      this.calmHint = `${words.shake.after} left, ${report.picture_kept.toFixed(0)} % kept`;
    },

    async guard(action) {
      try {
        this.problem = "";
        return await action();
      } catch (error) {
        this.problem = error.message;
        return null;
      }
    },

    get horizonOn() {
      return this.horizon !== null;
    },

    get canLevel() {
      return this.horizonTilt !== null;
    },

    foldSwell(event) {
      this.fold(event);
      this.swellOpen = event.target.open;
      if (parts.stage) parts.stage.drawOver();
    },
  }));
});
