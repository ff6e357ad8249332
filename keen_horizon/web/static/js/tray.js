// The job tray, on every screen.
import { get, jobWords, post } from "./api.js";

document.addEventListener("alpine:init", () => {
  window.Alpine.data("tray", () => ({
    open: false,
    work: [],
    night: document.documentElement.dataset.bsTheme === "dark",
    busy: false,
    summary: "Jobs",

    init() {
      this.look();
      document.addEventListener("keen:work", () => this.look());
    },

    async look() {
      clearTimeout(this.timer);
      try {
        const { work } = await get("/work");
        this.work = work.map((job) => ({
          ...job,
          words: jobWords(job),
          again: job.state === "failed" || job.state === "cancelled",
          link: job.state === "done" && job.clip ? (job.kind === "export" ? `/clips/${job.clip}/exports` : `/clips/${job.clip}`) : null,
          linkWords: job.kind === "export" ? "To the export" : "Open the clip",
        }));
        const open = work.filter((job) => job.open);
        this.busy = open.length > 0;
        this.summary = "Jobs";
        if (open.length) {
          const running = open.find((job) => job.state === "running" && job.total);
          this.summary = running ? `${running.doing} ${Math.floor((100 * running.done) / running.total)} %` : `${open.length} waiting`;
        }
      } catch {
        this.busy = false;
        this.summary = "No answer";
      }
      this.timer = setTimeout(() => this.look(), this.busy ? 1000 : 5000);
    },

    toggle() {
      this.open = !this.open;
      if (this.open) this.look();
    },

    async cancel(job) {
      await post(`/work/${job.id}/cancel`);
      this.look();
    },

    async retry(job) {
      await post(`/work/${job.id}/retry`);
      this.look();
    },

    flip() {
      this.night = !this.night;
      const light = this.night ? "dark" : "light";
      localStorage.setItem("keen-light", light);
      document.documentElement.dataset.bsTheme = light;
      document.dispatchEvent(new Event("keen:light"));
    },
  }));
});
