// The shelf: what is on it, and dropping files onto it.
import { call, get, headers, jobWords, post } from "./api.js";

document.addEventListener("alpine:init", () => {
  window.Alpine.data("shelf", () => ({
    shoots: [],
    uploads: [],
    problem: "",
    removed: null,
    over: false,
    fresh: "",
    limit: 0,

    init() {
      this.limit = Number(this.$root.dataset.limit);
      this.look();
    },

    async look() {
      clearTimeout(this.timer);
      let busy = false;
      try {
        const { shoots } = await get("/shelf.json");
        for (const shoot of shoots) {
          for (const clip of shoot.clips) {
            busy = busy || Boolean(clip.work);
            this.describe(clip);
          }
        }
        // Do not pull a name away from under somebody who is typing it.
        if (!document.activeElement?.classList.contains("plain")) this.shoots = shoots;
      } catch (error) {
        this.problem = error.message;
      }
      this.timer = setTimeout(() => this.look(), busy ? 1000 : 6000);
    },

    describe(clip) {
      clip.facts = [clip.format, clip.weight].filter(Boolean).join(" · ");
      clip.progress = clip.work ? jobWords(clip.work) : "";
      clip.stateWords = clip.work ? `${clip.state}: ${clip.progress}` : clip.state;
      clip.failure = clip.failed && !clip.refusal ? clip.failed.message : "";
      if (clip.shake) {
        clip.shakeWords = `shake ${clip.shake.before} → ${clip.shake.after}`;
        if (!clip.work) clip.stateWords += `, keeps ${clip.shake.kept.toFixed(0)} %`;
      }
    },

    countWords(shoot) {
      return shoot.clips.length === 1 ? "1 clip" : `${shoot.clips.length} clips`;
    },

    uploadsOf(shoot) {
      return this.uploads.filter((up) => up.shoot === shoot.id);
    },

    leave(event) {
      if (!event.relatedTarget) this.over = false;
    },

    openPicker(event) {
      event.target.querySelector("input").click();
    },

    pick(event, shoot) {
      this.add([...event.target.files], shoot);
      event.target.value = "";
    },

    drop(event, shoot) {
      this.over = false;
      this.add([...event.dataTransfer.files], shoot);
    },

    async dropAnywhere(event) {
      this.over = false;
      const files = [...event.dataTransfer.files];
      if (!files.length) return;
      if (!this.shoots.length) {
        await this.guard(() => post("/shoots", { name: "First shoot" }));
        await this.look();
      }
      if (this.shoots.length) this.add(files, this.shoots[0]);
    },

    async add(files, shoot) {
      const added = [];
      for (const file of files) {
        const clip = await this.upload(file, shoot);
        if (clip) added.push(clip);
      }
      // One file dropped: go and watch it become steady.
      if (files.length === 1 && added.length === 1) location.href = `/clips/${added[0]}`;
      else this.look();
    },

    upload(file, shoot) {
      const key = `${Date.now()}-${Math.random()}`;
      this.uploads.push({ key, shoot: shoot.id, name: file.name, size: file.size, sent: 0, words: "0 %", problem: "" });
      const up = this.uploads[this.uploads.length - 1];
      if (file.size > this.limit) {
        up.words = "refused";
        up.problem = `${file.name}: the file is larger than the limit of ${(this.limit / 1e9).toPrecision(3)} GB. Cut out the part you need first.`;
        return Promise.resolve(null);
      }
      return new Promise((finish) => {
        const request = new XMLHttpRequest();
        up.stop = () => request.abort();
        request.open("POST", `/shoots/${shoot.id}/recordings?name=${encodeURIComponent(file.name)}`);
        for (const [name, value] of Object.entries(headers)) request.setRequestHeader(name, value);
        request.setRequestHeader("Content-Type", "application/octet-stream");
        request.responseType = "json";
        request.upload.onprogress = (event) => {
          up.sent = event.loaded;
          up.words = `${Math.floor((100 * event.loaded) / Math.max(1, file.size))} %`;
        };
        const refuse = (words) => {
          up.problem = words;
          up.words = "refused";
          finish(null);
        };
        request.onload = () => {
          if (request.status !== 200) return refuse(request.response?.error || "The upload was refused.");
          this.uploads = this.uploads.filter((other) => other.key !== key);
          document.dispatchEvent(new Event("keen:work"));
          finish(request.response.clip);
        };
        request.onerror = () => refuse(`${file.name}: the upload broke off. Drop the file again.`);
        request.onabort = () => {
          this.uploads = this.uploads.filter((other) => other.key !== key);
          finish(null);
        };
        request.send(file);
      });
    },

    dismiss(up) {
      if (!up.problem && up.stop) up.stop();
      this.uploads = this.uploads.filter((other) => other.key !== up.key);
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

    async addShoot() {
      if (await this.guard(() => post("/shoots", { name: this.fresh }))) this.fresh = "";
      this.look();
    },

    renameShoot(shoot, event) {
      this.rename(`/shoots/${shoot.id}`, shoot, event);
    },

    renameClip(clip, event) {
      this.rename(`/clips/${clip.id}`, clip, event);
    },

    async rename(address, thing, event) {
      const answer = await this.guard(() => call("PATCH", address, { name: event.target.value }));
      if (answer) thing.name = answer.name;
      event.target.value = thing.name;
    },

    removeClip(clip) {
      this.remove(`/clips/${clip.id}`);
    },

    removeShoot(shoot) {
      this.remove(`/shoots/${shoot.id}`);
    },

    async remove(address) {
      const answer = await this.guard(() => call("DELETE", address));
      if (answer) this.removed = { address, words: `${answer.removed} was taken off the shelf.` };
      this.look();
    },

    async putBack() {
      await this.guard(() => post(`${this.removed.address}/put-back`));
      this.removed = null;
      this.look();
    },

    async retry(clip) {
      await this.guard(() => post(`/work/${clip.failed.id}/retry`));
      this.look();
    },
  }));
});
