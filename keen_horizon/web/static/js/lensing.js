// Lens: the dial, the numbers, what it comes to. Mixed into the clip screen.
import { get } from "./api.js";

const DIAL = { low: 40, high: 179, marks: [90, 125, 150, 170], x: 120, y: 122, radius: 92 };
const STRAIGHT = { profile: null, edition: null, model: "rectilinear", focal: 0.832, k1: 0, k2: 0, k3: 0, k4: 0, p1: 0, p2: 0, centre_x: 0, centre_y: 0 };
const SVG = "http://www.w3.org/2000/svg";

const turned = (degrees) => Math.PI * (1 - (degrees - DIAL.low) / (DIAL.high - DIAL.low));
const onDial = (degrees, radius) => [DIAL.x + radius * Math.cos(turned(degrees)), DIAL.y - radius * Math.sin(turned(degrees))];

function drawn(kind, attributes, text) {
  const element = document.createElementNS(SVG, kind);
  for (const [name, value] of Object.entries(attributes)) element.setAttribute(name, value);
  if (text) element.textContent = text;
  return element;
}

export const lensing = {
  openLens() {
    this.station = "lens";
    if (this.treatment) this.listEdges();
    this.watchEdges();
  },

  takeWay(way) {
    this.way = way;
    this.tracing = false;
    if (way === "cabinet") this.openCabinet();
    if (this.treatment) this.listEdges();
    this.watchEdges();
  },

  // A lens that is known lets the camera's motion be a turn, which explains a wide picture best.
  adopt(settings) {
    const { lens, motion } = this.treatment;
    if (lens.model === "rectilinear" && settings.model !== "rectilinear" && motion.model === "similarity") motion.model = "rotation";
    Object.assign(lens, settings, { on: true });
  },

  noLens() {
    const { motion } = this.treatment;
    if (motion.model === "rotation" && motion.angle_of_view === null) motion.model = "similarity";
    Object.assign(this.treatment.lens, STRAIGHT, { found_by: "nothing", residual: null, amount: 100 });
    for (const name of ["lens.amount", "lens.focal", "lens.centre_x", "lens.centre_y"]) delete this.treatment.keys[name];
    this.solve(true);
  },

  // --- the dial ---------------------------------------------------------------------------------

  holdDial() {
    const { dial } = this.$refs;
    dial.append(drawn("path", { class: "dial-arc", d: `M${onDial(DIAL.low, DIAL.radius).join(" ")}A${DIAL.radius} ${DIAL.radius} 0 0 1 ${onDial(DIAL.high, DIAL.radius).join(" ")}` }));
    for (let at = DIAL.low; at <= DIAL.high; at += 5) {
      const [[x1, y1], [x2, y2]] = [onDial(at, DIAL.radius - 4), onDial(at, DIAL.radius)];
      dial.append(drawn("line", { class: "dial-tick", x1, y1, x2, y2 }));
    }
    for (const mark of DIAL.marks) {
      const [[x1, y1], [x2, y2], [x, y]] = [onDial(mark, DIAL.radius - 10), onDial(mark, DIAL.radius), onDial(mark, DIAL.radius + 13)];
      dial.append(drawn("line", { class: "dial-mark", x1, y1, x2, y2 }), drawn("text", { x, y: y + 3, "text-anchor": "middle" }, `${mark}°`));
    }
    this.hand = drawn("line", { class: "dial-hand", x1: DIAL.x, y1: DIAL.y });
    this.read = drawn("text", { class: "dial-read", x: DIAL.x, y: DIAL.y - 24, "text-anchor": "middle" });
    dial.append(this.hand, drawn("circle", { class: "dial-hub", cx: DIAL.x, cy: DIAL.y, r: 4 }), this.read);
    const angleAt = (event) => {
      const box = dial.getBoundingClientRect();
      const x = ((event.clientX - box.left) / box.width) * 240 - DIAL.x;
      const y = DIAL.y - ((event.clientY - box.top) / box.height) * 134;
      const turn = Math.max(0, Math.min(Math.PI, Math.atan2(y, x) < -Math.PI / 2 ? Math.PI : Math.atan2(y, x)));
      return DIAL.low + (1 - turn / Math.PI) * (DIAL.high - DIAL.low);
    };
    // Near a mark the hand falls onto it.
    const snapped = (degrees) => DIAL.marks.find((mark) => Math.abs(mark - degrees) < 1.2) || Math.round(degrees * 2) / 2;
    dial.addEventListener("pointerdown", (event) => {
      dial.setPointerCapture(event.pointerId);
      this.turnDial(snapped(angleAt(event)), false);
    });
    dial.addEventListener("pointermove", (event) => {
      if (event.buttons & 1) this.turnDial(snapped(angleAt(event)), false);
    });
    dial.addEventListener("pointerup", (event) => this.turnDial(snapped(angleAt(event)), true));
    this.drawDial();
  },

  drawDial() {
    const [x2, y2] = onDial(Math.max(DIAL.low, Math.min(DIAL.high, this.dialAngle || DIAL.low)), DIAL.radius - 14);
    this.hand.setAttribute("x2", x2);
    this.hand.setAttribute("y2", y2);
    this.hand.setAttribute("visibility", this.dialAngle ? "visible" : "hidden");
    this.read.textContent = this.dialAngle ? `${Math.round(this.dialAngle * 10) / 10}°` : "turn the hand";
  },

  dialKey(event) {
    const step = { ArrowRight: 1, ArrowUp: 1, ArrowLeft: -1, ArrowDown: -1, PageUp: 10, PageDown: -10 }[event.key];
    if (!step) return;
    event.preventDefault();
    event.stopPropagation();
    this.turnDial(Math.max(DIAL.low, Math.min(DIAL.high, Math.round(this.dialAngle || 100) + step)), true);
  },

  tellFor(shape) {
    this.toldFor = shape;
    if (this.dialAngle) this.turnDial(this.dialAngle, true);
  },

  // One question at a time; only the newest wish is kept.
  async turnDial(degrees, settled) {
    this.dialAngle = degrees;
    this.dialTurned = true;
    this.drawDial();
    this.dialWish = { degrees, settled };
    if (this.dialAsking) return;
    this.dialAsking = true;
    while (this.dialWish) {
      const wish = this.dialWish;
      this.dialWish = null;
      await this.guard(async () => {
        const { focal } = await get(`${this.base}/lens/angle?degrees=${wish.degrees}&shape=${encodeURIComponent(this.toldFor)}`);
        this.adopt({ ...STRAIGHT, model: "fisheye", focal, found_by: "angle", residual: null });
        await this.solve(wish.settled, !wish.settled);
      });
    }
    this.dialAsking = false;
  },

  // --- the numbers ------------------------------------------------------------------------------

  setModel(event) {
    this.adopt({ model: event.target.value });
    this.byNumbers(true);
  },

  slideNumber(key, event, settled) {
    const value = Number(event.target.value);
    if (event.target.value === "" || Number.isNaN(value)) {
      event.target.value = this.treatment.lens[key];
      return;
    }
    this.treatment.lens[key] = value;
    this.byNumbers(settled);
  },

  resetNumber(key, value) {
    this.treatment.lens[key] = value;
    this.byNumbers(true);
  },

  byNumbers(settled) {
    Object.assign(this.treatment.lens, { found_by: "numbers", residual: null, profile: null, edition: null });
    this.reflect();
    this.solve(settled, !settled);
  },

  reflectLens() {
    const { lens } = this.treatment;
    this.lensOn = lens.on;
    this.bendsRays = lens.model !== "rectilinear";
    this.hasK1 = this.bendsRays;
    this.hasK2 = ["brown", "fisheye"].includes(lens.model);
    this.hasK4 = lens.model === "fisheye";
    this.hasP = lens.model === "brown";
    this.listEdges();
  },

  takeLens(answer) {
    this.lensWords = answer.words.lens;
    this.lensWarning = [answer.newer && answer.newer.words, answer.words.lens_warning].filter(Boolean).join(" ");
    this.bentWords = answer.words.angles.bent;
    this.straightViewWords = answer.words.angles.straight;
    this.fitWords = answer.words.fit;
    const told = answer.report.lens;
    if (!this.dialAsking && this.hand) {
      // The dial shows this picture's angle; one that was told for another shape stays as told.
      if (!told) this.dialAngle = null;
      else if (this.toldFor === "this" || !this.dialTurned) this.dialAngle = told.bent.diagonal;
      this.drawDial();
    }
    this.drawCurve(answer.displacement);
  },

  drawCurve(displacement) {
    const { curve } = this.$refs;
    curve.replaceChildren();
    if (!displacement) return;
    const known = displacement.moved.filter((value) => value !== null);
    const high = Math.max(2, ...known);
    const low = Math.min(0, ...known);
    const y = (value) => 78 - ((value - low) / (high - low)) * 66;
    const x = (away) => 34 + (away / 100) * 200;
    let path = "";
    displacement.away.forEach((away, i) => {
      const value = displacement.moved[i];
      if (value !== null) path += `${path ? "L" : "M"}${x(away).toFixed(1)} ${y(value).toFixed(1)}`;
    });
    curve.append(
      drawn("line", { class: "curve-zero", x1: 34, x2: 234, y1: y(0), y2: y(0) }),
      drawn("path", { class: "curve-line", d: path }),
      drawn("text", { x: 30, y: y(high) + 4, "text-anchor": "end" }, `${high.toFixed(0)} %`),
      drawn("text", { x: 30, y: y(0) + 4, "text-anchor": "end" }, "0"),
      drawn("text", { x: 234, y: 89, "text-anchor": "end" }, "corner"),
      drawn("text", { x: 34, y: 89 }, "centre"),
    );
  },
};

