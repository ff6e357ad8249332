// Comparing and copying: what is on the other side, a loop, a detail. Mixed into the clip screen.
import { gaveUp, get, post, unpack } from "./api.js";
import { parts } from "./parts.js";
import { Lattice } from "./warp.js";

const STATION_NAMES = [["lens", "Lens"], ["shutter", "Shutter"], ["motion", "Motion"], ["frame", "Frame"]];

export const comparing = {
  async compareWith(event) {
    event.target.blur();
    this.againstId = event.target.value;
    if (!this.againstId) {
      parts.stage.against = null;
      this.againstName = "Original";
      parts.stage.draw();
      return;
    }
    await this.guard(async () => {
      const wanted = this.againstId;
      for (;;) {
        const answer = await get(`${this.base}/versions/${wanted}/lattice`);
        if (wanted !== this.againstId) return;
        if (gaveUp(answer.solving)) throw new Error(answer.solving.message || "The solve was cancelled.");
        if (answer.solving) {
          await new Promise((resolve) => { setTimeout(resolve, 400); });
          continue;
        }
        const { columns, rows, nodes } = answer.lattice;
        parts.stage.against = {
          lattice: new Lattice(columns, rows, unpack(nodes)),
          output: { ...answer.output, aspect: answer.output.pixel_aspect },
          name: answer.name,
        };
        this.againstName = answer.name;
        if (this.mode === "treated") this.show("split");
        parts.stage.draw();
        return;
      }
    });
  },

  // --- a loop: from the playhead, and to it ------------------------------------------------------

  loopFrom() {
    this.setLoop(this.frame + this.firstFrame, this.loopLast > this.frame + this.firstFrame ? this.loopLast : this.lastFrame);
  },

  loopTo() {
    this.setLoop(this.loopFirst !== null && this.loopFirst < this.frame + this.firstFrame ? this.loopFirst : this.firstFrame, this.frame + this.firstFrame);
  },

  setLoop(first, last) {
    const whole = first === null || (first <= this.firstFrame && last >= this.lastFrame) || last <= first;
    [this.loopFirst, this.loopLast] = whole ? [null, null] : [first, last];
    parts.stage.loop = whole ? null : [first, last];
    parts.strip.setLoop(whole ? null : [first - this.firstFrame, last - this.firstFrame]);
    this.loopWords = whole ? "" : `${first}–${last}`;
  },

  endLoop() {
    this.setLoop(null, null);
  },

  // --- a detail ----------------------------------------------------------------------------------

  holdDetail() {
    const { stage } = this.$refs;
    let from = null;
    stage.addEventListener("wheel", (event) => {
      event.preventDefault();
      parts.stage.closer(event.deltaY < 0 ? 1.25 : 0.8, ...parts.stage.spot(event));
      this.detailed();
    }, { passive: false });
    stage.addEventListener("pointerdown", (event) => {
      if (event.button || event.target.closest("button") || this.lassoing || this.holding !== null || parts.stage.zoom === 1) return;
      stage.setPointerCapture(event.pointerId);
      from = [...parts.stage.spot(event), { ...parts.stage.centre }];
    });
    stage.addEventListener("pointermove", (event) => {
      if (!from) return;
      const [x, y] = parts.stage.spot(event);
      const { box } = parts.stage.partAt(x, y);
      parts.stage.look(parts.stage.zoom, from[2].x - (x - from[0]) / box.width, from[2].y - (y - from[1]) / box.height);
      this.detailed();
    });
    stage.addEventListener("pointerup", () => { from = null; });
  },

  nearer(factor) {
    parts.stage.closer(factor, parts.stage.picture.width / 2, parts.stage.picture.height / 2);
    this.detailed();
  },

  wholePicture() {
    parts.stage.look(1, 0.5, 0.5);
    this.detailed();
  },

  detailed() {
    this.detail = parts.stage.zoom > 1 ? `× ${parts.stage.zoom.toFixed(1)}` : "";
    this.placeDivider();
  },

  // --- copying to other clips ---------------------------------------------------------------------

  async foldCopy(event) {
    this.fold(event);
    if (!event.target.open) return;
    await this.guard(async () => {
      const { clips } = await get(`${this.base}/others`);
      this.others = clips.map((clip) => ({ ...clip, on: false }));
      this.stationsToCopy = STATION_NAMES.map(([key, name]) => ({ key, name, on: true }));
      this.copyWords = clips.length ? "" : "This shoot has no other clip.";
    });
  },

  async copyTreatment() {
    const to = this.others.filter((clip) => clip.on).map((clip) => clip.id);
    const stations = this.stationsToCopy.filter((one) => one.on).map((one) => one.key);
    await this.guard(async () => {
      const { names } = await post(`${this.base}/copy`, { to, stations });
      this.copyWords = `Copied to ${names.join(", ")}. Undo there takes it back.`;
    });
  },
};
