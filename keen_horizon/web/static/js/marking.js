// Marks: what they do, which move together, and setting them aside. Mixed into the clip screen.
import { gaveUp, get, jobWords, post, unpack } from "./api.js";
import { parts } from "./parts.js";

const CHUNK = 60; // frames of marks asked for at once
const KEPT = 1800; // frames of marks kept
const CORNERS = 80; // of a lasso, at most
const SMALLEST = 24; // px across: less is a slip of the hand

export const marking = {
  holdMarks() {
    const { stage } = this.$refs;
    stage.addEventListener("pointerdown", (event) => {
      if (event.button || event.target.closest("button")) return;
      if (this.lassoing) {
        stage.setPointerCapture(event.pointerId);
        parts.stage.markings.drawing = [parts.stage.spot(event)];
      }
    });
    stage.addEventListener("pointermove", (event) => {
      const { markings } = parts.stage;
      if (markings.drawing) {
        markings.drawing.push(parts.stage.spot(event));
        parts.stage.drawOver();
      } else if (this.marks && this.groups.length && !event.buttons) {
        const found = markings.groupNear(...parts.stage.spot(event));
        if (found !== this.litGroup) this.light(found);
      }
    });
    stage.addEventListener("pointerup", () => {
      if (parts.stage.markings.drawing) this.endLasso();
    });
    stage.addEventListener("pointerleave", () => this.light(null));
  },

  async fetchMarks() {
    const { markings } = parts.stage;
    const chunk = Math.floor(this.frame / CHUNK) * CHUNK;
    if (!this.ready || !this.marks || markings.sets.has(this.frame) || this.fetching === chunk) return;
    this.fetching = chunk;
    if (markings.sets.size > KEPT) markings.clear();
    const to = Math.min(this.lastIndex, chunk + CHUNK - 1);
    await this.guard(async () => {
      const { steering } = this;
      const { first, counts, marks } = await get(`${this.base}/marks?from=${chunk}&to=${to}`);
      if (steering !== this.steering) return;
      const all = unpack(marks);
      let at = 0;
      counts.forEach((count, i) => {
        markings.put(first + i, all.subarray(4 * at, 4 * (at + count)));
        at += count;
      });
      parts.stage.draw();
    });
    this.fetching = null;
  },

  // What the marks do has changed: with the treatment, or for the first time.
  takeSteering(steering, sliding) {
    if (this.steering === steering || (sliding && this.steering.split(",")[0] === steering.split(",")[0])) return;
    this.steering = steering;
    parts.stage.markings.clear();
    this.fetching = null;
    this.fetchMarks();
    if (this.$refs.marksFold.open) this.fetchGroups();
  },

  async fetchGroups() {
    if (!this.ready) return;
    await this.guard(async () => {
      const { steering } = this;
      const answer = await get(`${this.base}/groups`);
      if (steering !== this.steering) return;
      const { markings } = parts.stage;
      markings.groupOf.clear();
      const sets = answer.groups.map((group, i) => {
        const ids = unpack(group.marks, Int32Array);
        ids.forEach((id) => markings.groupOf.set(id, i));
        return new Set(ids);
      });
      this.groupMarks = sets;
      this.asideMarks = answer.aside.map((one) => new Set(unpack(one.marks, Int32Array)));
      const plain = ({ marks: _, ...rest }, index) => ({ ...rest, index });
      this.groups = answer.groups.map(plain);
      this.asides = answer.aside.map(plain);
      this.only = answer.only ? plain(answer.only, 0) : null;
      this.onlyWords = answer.only ? `${answer.only.words} · ${answer.only.when}` : "";
      this.advice = answer.advice ? answer.advice.words : "";
      this.advised = answer.advice ? answer.advice.group : null;
      this.groupWords = this.groups.length ? "" : "Everything moves as the camera has it move.";
      this.marksWords = [`${this.groups.length} groups`, this.asides.length ? `${this.asides.length} set aside` : "", this.only ? "one steers" : ""].filter(Boolean).join(" · ");
    });
  },

  // The closer measure: asked for, waited for in the background, and then used.
  async wantCloser(event) {
    await this.guard(async () => this.takeCloser(await post(`${this.base}/closer`, { wanted: event.target.checked })));
  },

  takeCloser({ wanted, there, seconds, work }) {
    clearTimeout(this.closerTimer);
    this.closer = wanted;
    const estimate = seconds === null ? "" : `, about ${Math.max(1, Math.round(seconds))} s`;
    if (wanted && !there && gaveUp(work)) this.closerWords = work.message || "It was cancelled.";
    else if (wanted && !there) {
      this.closerWords = `Measuring${work.total ? `: ${jobWords(work)}` : " …"} The first stays in use.`;
      this.closerTimer = setTimeout(() => this.lookCloser(), 700);
    } else this.closerWords = there ? (wanted ? "In use." : "Is there.") : `More marks, finer${estimate}.`;
    if (this.closerUsed !== undefined && this.closerUsed !== (wanted && there)) this.solve(false);
    this.closerUsed = wanted && there;
    document.dispatchEvent(new Event("keen:work"));
  },

  async lookCloser() {
    await this.guard(async () => this.takeCloser((await get(`${this.base}/state`)).closer));
  },

  foldMarks(event) {
    this.fold(event);
    if (!event.target.open) return;
    if (!this.marks) this.overlay("marks");
    this.fetchGroups();
  },

  light(index) {
    this.litGroup = index;
    this.lightSet(index === null ? null : this.groupMarks[index]);
  },

  lightAside(index) {
    this.lightSet(this.asideMarks[index]);
  },

  lightSet(set) {
    parts.stage.markings.lit = set;
    parts.stage.drawOver();
  },

  groupClass(group) {
    return this.litGroup === group.index ? "is-lit" : "";
  },

  setAside(group) {
    this.treatment.motion.aside.push(group.subject);
    this.solve(true);
  },

  adviceTaken() {
    this.setAside(this.groups[this.advised]);
  },

  steerOnly(group) {
    this.treatment.motion.steer_by = group.only ? null : group.subject;
    this.solve(true);
  },

  allSteer() {
    this.treatment.motion.steer_by = null;
    this.solve(true);
  },

  putBack(one) {
    this.treatment.motion.aside.splice(one.index, 1);
    this.lightSet(null);
    this.solve(true);
  },

  goToAside(one) {
    parts.stage.pause();
    parts.stage.seek(one.frame);
  },

  lasso() {
    this.lassoing = !this.lassoing;
    this.holding = null;
    if (!this.lassoing) return;
    parts.stage.pause();
    if (!this.marks) this.overlay("marks");
  },

  endLasso() {
    const { markings } = parts.stage;
    const path = markings.drawing;
    markings.drawing = null;
    this.lassoing = false;
    const wide = (axis) => Math.max(...path.map((p) => p[axis])) - Math.min(...path.map((p) => p[axis]));
    if (path.length < 3 || Math.max(wide(0), wide(1)) < SMALLEST * parts.stage.ratio) {
      parts.stage.drawOver();
      return;
    }
    const every = Math.ceil(path.length / CORNERS);
    const round = (value) => Math.round(Math.max(-0.5, Math.min(1.5, value)) * 1e4) / 1e4;
    const outline = path.filter((_, i) => i % every === 0).map(([x, y]) => parts.stage.sourceAt(x, y).map(round));
    if (outline.length < 3) return;
    this.treatment.motion.aside.push({ kind: "lasso", frame: parts.stage.frame, outline });
    this.solve(true);
  },

  sizeDots(event) {
    this.dotSize = parts.stage.markings.dotSize = Number(event.target.value);
    this.remember();
    parts.stage.draw();
  },

  lengthenTrails(event) {
    this.trail = parts.stage.markings.trail = Number(event.target.value);
    this.remember();
    parts.stage.draw();
  },
};
