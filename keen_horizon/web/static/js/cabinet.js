// The lens cabinet, and charts. Mixed into the clip screen.
import { call, get, headers, post } from "./api.js";

const SVG = "http://www.w3.org/2000/svg";
const pause = (ms) => new Promise((done) => { setTimeout(done, ms); });

// A file as the body of a request, its name beside it.
async function send(address, file) {
  const answer = await fetch(`${address}?name=${encodeURIComponent(file.name)}`, { method: "POST", headers: { ...headers, "Content-Type": "application/octet-stream" }, body: file });
  const data = await answer.json().catch(() => ({}));
  if (!answer.ok) throw new Error(data.error || `That did not work (${answer.status}).`);
  return data;
}

export const cabinet = {
  async openCabinet() {
    await this.guard(async () => this.takeCabinet(await get(`${this.base}/lenses`)));
  },

  takeCabinet({ lenses, camera }) {
    const used = this.treatment.lens.profile;
    this.houseLenses = lenses.map((lens) => ({ ...lens, used: lens.id === used, json: `/lenses/${lens.id}.json`, yaml: `/lenses/${lens.id}.yml` }));
    this.cabinetWords = lenses.length ? "" : "The cabinet is empty. Find a lens, then keep it here for every clip of its camera.";
    if (!this.lensCamera) this.lensCamera = camera;
  },

  useLens(lens) {
    this.edgeFit = null;
    this.adopt(lens.settings);
    for (const name of ["lens.focal", "lens.centre_x", "lens.centre_y"]) delete this.treatment.keys[name];
    this.solve(true);
    this.houseLenses = this.houseLenses.map((one) => ({ ...one, used: one.id === lens.id }));
  },

  followNewer() {
    Object.assign(this.treatment.lens, this.newer.settings);
    this.solve(true);
  },

  async keepLens() {
    await this.guard(async () => {
      const told = { name: this.lensName, camera: this.lensCamera, lens: this.lensLens, mode: this.lensMode };
      const answer = await post(`${this.base}/lenses`, told);
      this.lensName = "";
      await this.refreshed(answer);
    });
  },

  async replaceLens(lens) {
    await this.guard(async () => this.refreshed(await post(`${this.base}/lenses`, { instead_of: lens.id })));
  },

  // The clip's own treatment has a new revision, made on the other side.
  async refreshed(answer) {
    this.apply(await get(`${this.base}/solution?near=${this.frame}`));
    this.takeCabinet(answer);
  },

  async dropLens(lens) {
    await this.guard(async () => this.takeCabinet(await call("DELETE", `${this.base}/lenses/${lens.id}`)));
  },

  async importLens(event) {
    const [file] = event.target.files;
    event.target.value = "";
    if (file) await this.guard(async () => this.takeCabinet(await send(`${this.base}/lenses/import`, file)));
  },

  takeNewer(newer) {
    this.newer = newer;
    this.newerWords = newer ? newer.words : "";
  },

  // --- charts -----------------------------------------------------------------------------------

  chartFile(kind) {
    return `/chart.${kind}?columns=${this.boardColumns}&rows=${this.boardRows}&paper=${this.chartPaper}`;
  },

  async addPhotos(event) {
    const files = [...event.target.files];
    event.target.value = "";
    const photos = [];
    await this.guard(async () => {
      for (const file of files) {
        this.chartWords = `Taking ${photos.length + 1} of ${files.length} …`;
        photos.push(await send(`${this.base}/photos`, file));
      }
    });
    this.chartWords = "";
    if (photos.length) await this.readCharts(photos);
  },

  async demoCharts() {
    await this.guard(async () => this.readCharts((await post(`${this.base}/demo-charts`)).photos));
  },

  async chartInClip() {
    await this.readCharts([]);
  },

  async readCharts(photos) {
    this.chartSettings = null;
    this.chartViews = [];
    this.chartCovered = false;
    await this.guard(async () => {
      const asked = { columns: this.boardColumns, rows: this.boardRows, photos };
      for (;;) {
        const answer = await post(`${this.base}/chart`, asked);
        if (answer.there) {
          this.takeCharts(answer);
          return;
        }
        const { work } = answer;
        if (!work.open && work.state !== "done") throw new Error(work.message || "The charts could not be read.");
        this.chartWords = work.total ? `Looking for charts: ${work.done + 1} of ${work.total} …` : "Looking for charts …";
        await pause(300);
      }
    });
  },

  takeCharts(answer) {
    this.chartViews = answer.views.map((view, index) => ({
      index,
      name: view.name,
      bad: Boolean(view.fault || view.left_out),
      words: view.fault || (view.left_out ? "left out" : view.residual === undefined ? "found" : `${view.residual.toFixed(3)} px`),
    }));
    const problem = answer.problem || answer.refusal;
    this.chartWords = problem || `Residual ${answer.residual.toFixed(3)} px. ${answer.words.join(" ")}`;
    this.chartSettings = problem ? null : answer.settings;
    this.chartCovered = Boolean(answer.covered);
    if (answer.covered) this.drawCoverage(answer.covered);
  },

  useChart() {
    this.edgeFit = null;
    this.adopt({ ...this.chartSettings, profile: null, edition: null });
    this.solve(true);
  },

  // Where in the frame corners were seen: the more, the darker.
  drawCoverage(covered) {
    const { coverage } = this.$refs;
    coverage.replaceChildren();
    const most = Math.max(1, ...covered.flat());
    const [rows, columns] = [covered.length, covered[0].length];
    covered.forEach((line, j) => line.forEach((count, i) => {
      const box = document.createElementNS(SVG, "rect");
      const places = { x: (160 / columns) * i + 0.5, y: (90 / rows) * j + 0.5, width: 160 / columns - 1, height: 90 / rows - 1, class: count ? "seen" : "unseen" };
      for (const [name, value] of Object.entries(places)) box.setAttribute(name, value);
      if (count) box.setAttribute("fill-opacity", 0.25 + (0.75 * count) / most);
      const title = document.createElementNS(SVG, "title");
      title.textContent = `${count} corners`;
      box.append(title);
      coverage.append(box);
    }));
  },
};
