// Straight edges: traced, proposed, and the lens they speak for. Mixed into the clip screen.
import { post } from "./api.js";
import { parts } from "./parts.js";

const NEAR = 9; // px within which a pointer takes hold of a trace
const WAIT = 120; // ms between questions for a picture that is being decoded
const apart = (a, b) => Math.hypot(a[0] - b[0], a[1] - b[1]);
const pause = (ms) => new Promise((done) => { setTimeout(done, ms); });

export const edging = {
  holdEdges() {
    const { stage } = this.$refs;
    stage.addEventListener("pointerdown", (event) => {
      if (event.button || event.target.closest("button") || !this.edgesOn()) return;
      const spot = parts.stage.spot(event);
      if (this.tracing) {
        event.stopImmediatePropagation();
        this.placePin(spot);
        return;
      }
      const hit = this.edgeAt(spot);
      if (!hit) return;
      event.stopImmediatePropagation();
      stage.setPointerCapture(event.pointerId);
      this.bending = hit;
    });
    stage.addEventListener("pointermove", (event) => {
      if (this.bending) this.bendEdge(parts.stage.spot(event), false);
    });
    stage.addEventListener("pointerup", (event) => {
      if (!this.bending) return;
      this.bendEdge(parts.stage.spot(event), true);
    });
    parts.stage.extras.push((pen, part) => this.drawEdges(pen, part));
  },

  edgesOn() {
    return this.station === "lens" && this.way === "edges" && this.ready;
  },

  // The picture on show is decoded for tracing before it is asked for.
  async watchEdges() {
    parts.stage.drawOver();
    if (!this.edgesOn() || this.playing) return;
    await this.lookAt(parts.stage.frame);
  },

  // A frame's picture, ready for tracing; false if another one is wanted by now.
  async lookAt(frame) {
    for (;;) {
      const answer = await this.guard(() => post(`${this.base}/lens/look`, { frame }));
      if (!answer) return null;
      if (answer.there) return answer;
      if (answer.work && !answer.work.open && answer.work.state !== "done") {
        this.problem = answer.work.message || "The picture could not be decoded.";
        return null;
      }
      await pause(WAIT);
      if (parts.stage.frame !== frame) return null;
    }
  },

  wantTrace() {
    this.tracing = !this.tracing;
    this.pins = [];
    parts.stage.pause();
    this.traceWords = this.tracing ? "Click near one end of the edge." : "";
    this.watchEdges();
  },

  async placePin(spot) {
    this.pins.push(parts.stage.sourceAt(...spot));
    this.traceWords = "Now near its other end.";
    parts.stage.drawOver();
    if (this.pins.length < 2) return;
    const pins = this.pins;
    const { frame } = parts.stage;
    this.pins = [];
    this.traceWords = "Following the edge …";
    const points = await this.traced(frame, pins);
    this.traceWords = points ? "Click near one end of the next edge, or press Esc." : this.traceWords;
    if (!points) return;
    this.treatment.lens.edges.push({ frame, points, pins: rounded(pins), runs: "any" });
    await this.refit();
  },

  async traced(frame, pins) {
    if (!(await this.lookAt(frame))) return null;
    const answer = await this.guard(() => post(`${this.base}/lens/trace`, { frame, pins }));
    if (!answer) this.traceWords = "";
    return answer && answer.there ? answer.points : null;
  },

  // The lens for the edges as they are; `live` while one is dragged.
  async refit(live = false) {
    const { lens } = this.treatment;
    const dragged = live === true;
    if (!lens.edges.length) {
      this.edgeFit = null;
      this.edgeWords = [];
      this.levels = [];
      this.solve(true);
      return;
    }
    const asked = { edges: lens.edges, model: this.edgeModel || null };
    if (dragged && lens.model !== "rectilinear") asked.live = lens.model;
    const found = await this.guard(() => post(`${this.base}/lens/fit`, asked));
    if (found) {
      this.takeFit(found);
      this.adopt({ ...found.settings, profile: null, edition: null });
    }
    this.listEdges();
    await this.solve(!dragged, dragged);
  },

  takeFit(found) {
    this.edgeFit = found;
    this.edgeWords = found.words;
    this.levels = found.levels;
    this.levelWords = found.levels.length ? `Turns the picture by ${found.levels.map((one) => `${one.turn.toFixed(2)}°`).join(", ")}.` : "";
  },

  // Residuals are not kept: they are found again when the tools are opened.
  async recallFit() {
    const { lens } = this.treatment;
    if (this.edgeFit || !lens.edges.length || this.recalling) return;
    this.recalling = true;
    const asked = { edges: lens.edges, model: this.edgeModel || null };
    const found = await this.guard(() => post(`${this.base}/lens/fit`, asked));
    this.recalling = false;
    if (!found) return;
    this.takeFit(found);
    this.listEdges();
  },

  listEdges() {
    const { edges } = this.treatment.lens;
    const fit = this.edgeFit && this.edgeFit.residuals.length === edges.length ? this.edgeFit : null;
    this.edgeList = edges.map((edge, index) => ({
      index,
      light: `edge ${index}`,
      name: `${index + 1}`,
      left: fit ? `${fit.residuals[index].toFixed(2)} px` : "",
      bad: Boolean(fit && fit.contradicting.includes(index)),
      when: `frame ${edge.frame}`,
      runs: edge.runs,
    }));
    if (!fit) this.levelWords = "";
    if (this.edgesOn()) this.recallFit();
    if (parts.stage) parts.stage.drawOver();
  },

  lightEdge(name) {
    this.litEdge = name;
    parts.stage.drawOver();
  },

  goEdge(index) {
    parts.stage.pause();
    parts.stage.seek(this.treatment.lens.edges[index].frame);
  },

  dropEdge(index) {
    this.treatment.lens.edges.splice(index, 1);
    this.edgeFit = null;
    this.refit();
  },

  runEdge(index, event) {
    this.treatment.lens.edges[index].runs = event.target.value;
    this.refit();
  },

  levelByEdges() {
    for (const { frame, turn } of this.levels) {
      if (this.levels.length > 1) this.putKey("frame.turn", frame, turn);
      else if (this.keysOf("frame.turn").length) this.putKey("frame.turn", frame, turn);
      else this.treatment.frame.turn = turn;
    }
    this.solve(true);
  },

  // --- proposals --------------------------------------------------------------------------------

  async wantProposals() {
    this.proposing = !this.proposing;
    this.proposed = [];
    if (!this.proposing) {
      parts.stage.drawOver();
      return;
    }
    parts.stage.pause();
    const { frame } = parts.stage;
    this.traceWords = "Looking for edges …";
    const answer = await this.lookAt(frame);
    this.traceWords = "";
    if (!answer) return;
    this.proposals = answer.edges.map((points) => ({ frame, points }));
    if (!answer.edges.length) this.traceWords = "No long edge was found in this picture. Trace one by hand.";
    this.listProposals();
  },

  listProposals() {
    const letter = (index) => String.fromCharCode(65 + index);
    this.proposed = this.proposals.map((edge, index) => ({ index, light: `proposal ${index}`, words: `Edge ${letter(index)}` }));
    parts.stage.drawOver();
  },

  takeProposal(index) {
    const [{ frame, points }] = this.proposals.splice(index, 1);
    this.treatment.lens.edges.push({ frame, points, pins: [points[0], points[points.length - 1]], runs: "any" });
  },

  acceptEdge(index) {
    this.takeProposal(index);
    this.listProposals();
    this.refit();
  },

  acceptAll() {
    while (this.proposals.length) this.takeProposal(0);
    this.proposing = false;
    this.listProposals();
    this.refit();
  },

  refuseEdge(index) {
    this.proposals.splice(index, 1);
    this.listProposals();
  },

  // --- on the picture ---------------------------------------------------------------------------

  edgeAt(spot) {
    const part = parts.stage.partAt(...spot);
    const { frame } = parts.stage;
    let found = null;
    let least = NEAR * parts.stage.ratio;
    this.treatment.lens.edges.forEach((edge, index) => {
      if (edge.frame !== frame) return;
      edge.points.forEach((point) => {
        const away = apart(parts.stage.place(part, point), spot);
        if (away < least) {
          least = away;
          found = { index, pins: edge.pins };
        }
      });
    });
    return found;
  },

  // A trace goes through where it is dragged to.
  async bendEdge(spot, settled) {
    const { index, pins } = this.bending;
    const edge = this.treatment.lens.edges[index];
    const at = parts.stage.sourceAt(...spot);
    if (settled) this.bending = null;
    this.bendWish = { index, edge, pins: withPin(pins, at), settled };
    if (this.bendAsking) return;
    this.bendAsking = true;
    while (this.bendWish) {
      const wish = this.bendWish;
      this.bendWish = null;
      const points = await this.traced(wish.edge.frame, wish.pins);
      if (points) {
        Object.assign(this.treatment.lens.edges[wish.index], { points, pins: rounded(wish.pins) });
        await this.refit(!wish.settled);
      }
    }
    this.bendAsking = false;
  },

  drawEdges(pen, part) {
    if (!this.edgesOn()) return;
    const { frame, ratio } = parts.stage;
    const line = (points, colour, width, dash, name) => {
      const spots = points.map((point) => parts.stage.place(part, point));
      for (const [ink, wide] of [["rgb(0 0 0 / .65)", width + 1.8], [colour, width]]) {
        pen.beginPath();
        spots.forEach(([x, y], i) => (i ? pen.lineTo(x, y) : pen.moveTo(x, y)));
        pen.strokeStyle = ink;
        pen.lineWidth = wide * ratio;
        pen.setLineDash(dash);
        pen.stroke();
      }
      pen.setLineDash([]);
      const [x, y] = spots[Math.floor(spots.length / 2)];
      parts.stage.label(pen, name, x + 6 * ratio, y - 10 * ratio);
    };
    if (this.proposing) {
      (this.proposals || []).forEach((edge, index) => {
        if (edge.frame === frame) line(edge.points, "#9FD8FF", this.litEdge === `proposal ${index}` ? 3.4 : 1.8, [7 * ratio, 5 * ratio], String.fromCharCode(65 + index));
      });
    }
    this.edgeList.forEach(({ index, bad, name, left }) => {
      const edge = this.treatment.lens.edges[index];
      if (!edge || edge.frame !== frame) return;
      line(edge.points, bad ? "#FF8A5C" : "#FFE27A", this.litEdge === `edge ${index}` ? 3.4 : 2, [], left ? `${name} · ${left}` : name);
      for (const pin of edge.pins) parts.stage.dot(pen, parts.stage.place(part, pin), 4);
    });
    for (const pin of this.pins) parts.stage.dot(pen, parts.stage.place(part, pin), 5);
  },
};

const rounded = (pins) => pins.map((pin) => pin.map((value) => Math.round(value * 1e6) / 1e6));

// The pins of a trace with one more, in order along the way from the first to the last.
function withPin(pins, at) {
  const first = pins[0];
  const last = pins[pins.length - 1];
  const length = apart(first, last) ** 2 || 1;
  const along = ([x, y]) => ((x - first[0]) * (last[0] - first[0]) + (y - first[1]) * (last[1] - first[1])) / length;
  const here = along(at);
  if (here <= 0.06) return [at, ...pins.slice(1)];
  if (here >= 0.94) return [...pins.slice(0, -1), at];
  const between = pins.slice(1, -1).filter((pin) => Math.abs(along(pin) - here) > 0.08).slice(0, 8);
  return [first, ...[...between, at].sort((a, b) => along(a) - along(b)), last];
}
