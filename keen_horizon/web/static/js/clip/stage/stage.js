// The stage: what is drawn where, at which size; the picture through the lattice, and what lies
// over it.
import { Overlay } from "./overlay.js";
import { Renderer } from "./renderer.js";
import { straight } from "./lattice.js";

const CLOSEST = 12; // times the picture is enlarged at most
const GAP = 10; // css px around the picture

/** @typedef {{ lattice: Part["lattice"], output: Shape }} Drawn */
/** @typedef {Drawn & { name: string }} Against */

export class Stage {
  /**
   * @param {object} elements
   * @param {HTMLCanvasElement} elements.picture
   * @param {HTMLCanvasElement} elements.overlay
   * @param {import("../clock.js").Clock} clock
   * @param {() => ViewStore} view how a person looks at it
   */
  constructor({ picture, overlay }, clock, view) {
    this.picture = picture;
    this.clock = clock;
    this.view = view;
    this.zoom = 1; // of the view, not of the treatment
    this.centre = { x: 0.5, y: 0.5 }; // what of the picture is in the middle
    /** @type {Against | null} what is compared with; null: the original */
    this.against = null;
    /** @type {import("./exact.js").ExactPictures | null} */
    this.exact = null;
    /** @type {Spot | null} where the pointer was last, canvas pixels */
    this.pointed = null;
    this.split = { x: 0.5, y: 0.5, turn: 0 };
    /** @type {Part["lattice"]} */
    this.lattice = straight;
    /** @type {Shape} */
    this.source = { width: 16, height: 9, aspect: 1 };
    this.output = this.source;
    /** @type {Drawn | null} what the treated picture is compared with, if not the source as it is */
    this.original = null;
    /** @type {Drawn | null} the sphere that a flat picture is taken out of */
    this.sphere = null;
    /** What a view out of a sphere is set to at the frame on show. @type {(name: string) => number} */
    this.looks = () => 0;
    this.loaded = false;
    this.drawn = 0; // pictures drawn, for measuring
    this.ratio = 1;
    this.renderer = new Renderer(picture, clock.video);
    this.overlay = new Overlay(overlay, this);
    const around = /** @type {HTMLElement} */ (picture.parentElement);
    new ResizeObserver(() => this.resize()).observe(around);
    this.resize();
    clock.take = (frame) => this.take(frame);
    clock.told.push(() => {
      this.drawn += 1;
      this.draw();
    });
  }

  get texture() {
    return this.renderer.texture;
  }

  get markings() {
    return this.overlay.markings;
  }

  get frame() {
    return this.clock.frame;
  }

  /** @param {number} frame */
  async take(frame) {
    const taken = Boolean(await this.texture?.take(frame));
    this.loaded ||= taken;
    return taken;
  }

  /** The picture again, from the video, after the graphics card had been lost. */
  async retake() {
    await this.take(this.frame);
    this.draw();
  }

  /** Until there is a solution, the treated picture is the source. */
  untreated() {
    this.show({
      treated: { lattice: straight, output: this.source },
      original: null,
      sphere: null,
    });
  }

  /**
   * What is on show from now on.
   * @param {{ treated: Drawn, original: Drawn | null, sphere: Drawn | null }} drawn
   */
  show({ treated, original, sphere }) {
    this.lattice = treated.lattice;
    this.output = treated.output;
    this.original = original;
    this.sphere = sphere;
  }

  resize() {
    const around = /** @type {HTMLElement} */ (this.picture.parentElement);
    this.ratio = window.devicePixelRatio || 1;
    for (const canvas of [this.picture, this.overlay.canvas]) {
      canvas.width = Math.max(1, Math.round(around.clientWidth * this.ratio));
      canvas.height = Math.max(1, Math.round(around.clientHeight * this.ratio));
    }
    this.draw();
  }

  // --- where things are --------------------------------------------------------------------------

  /**
   * The picture's box in canvas pixels, inside a region given in canvas pixels.
   * @param {Box} region
   * @param {Shape} shape
   * @returns {Box}
   */
  box(region, shape) {
    const gap = 2 * GAP * this.ratio;
    // What is taken out of a sphere has a shape of its own; other pictures are shown beside the
    // source, at its size.
    const source = this.original ? shape : this.source;
    const width = source.width * source.aspect;
    const fit = Math.min((region.width - gap) / width, (region.height - gap) / source.height);
    // An output of another size is shown as large as fits; its pixels are its own.
    const wide = shape.width * shape.aspect;
    const own = Math.min(1, width / wide, source.height / shape.height);
    const w = wide * own * fit * this.zoom;
    const h = shape.height * own * fit * this.zoom;
    return {
      left: region.left + region.width / 2 - this.centre.x * w,
      top: region.top + region.height / 2 - this.centre.y * h,
      width: w,
      height: h,
    };
  }

  /**
   * Enlarge the view by a factor about a place in canvas pixels.
   * @param {number} factor
   * @param {Spot} spot
   */
  closer(factor, [x, y] = [this.picture.width / 2, this.picture.height / 2]) {
    const { box } = this.partAt([x, y]);
    const u = (x - box.left) / box.width;
    const v = (y - box.top) / box.height;
    const zoom = Math.max(1, Math.min(CLOSEST, this.zoom * factor));
    const grown = zoom / this.zoom;
    this.look(zoom, u + (this.centre.x - u) / grown, v + (this.centre.y - v) / grown);
  }

  /** At 100 % about the place that the pointer was at last: a pixel of the output a pixel. */
  lookClosely() {
    const spot = this.pointed ?? undefined;
    const { box, output } = this.partAt(spot ?? [this.picture.width / 2, this.picture.height / 2]);
    const factor = output.width / box.width;
    if (factor > 1) this.closer(factor, spot);
  }

  /** The exact picture, where it is that of the frame and the treatment on show. */
  get exactNow() {
    const { exact } = this;
    const now = exact && exact.frame === this.frame && this.view().exactly === this.frame;
    return now && !this.clock.playing ? exact : null;
  }

  /**
   * @param {number} zoom
   * @param {number} x share of the picture that is in the middle
   * @param {number} y
   */
  look(zoom, x = 0.5, y = 0.5) {
    this.zoom = zoom;
    /** @param {number} value */
    const share = (value) => (zoom === 1 ? 0.5 : Math.max(0, Math.min(1, value)));
    this.centre = { x: share(x), y: share(y) };
    this.view().zoom = zoom;
    this.draw();
  }

  /**
   * Where a pointer is, canvas pixels.
   * @param {{ clientX: number, clientY: number }} event
   * @returns {Spot}
   */
  spot(event) {
    const { left, top } = this.picture.getBoundingClientRect();
    return [(event.clientX - left) * this.ratio, (event.clientY - top) * this.ratio];
  }

  /**
   * The part of the stage at a place in canvas pixels.
   * @param {Spot} spot
   */
  partAt([x, y]) {
    const parts = this.layout();
    if (parts.length === 1) return parts[0];
    if (!parts[0].side) return parts[x < this.picture.width / 2 ? 0 : 1];
    const { point, normal } = this.line();
    const side = (x - point[0]) * normal[0] + (y - point[1]) * normal[1];
    return parts[side > 0 ? 1 : 0];
  }

  /**
   * The place of the source under a place in canvas pixels, in shares.
   * @param {Spot} spot
   * @returns {Place}
   */
  sourceAt([x, y]) {
    const { lattice, box } = this.partAt([x, y]);
    return lattice.map(this.clock.at, (x - box.left) / box.width, (y - box.top) / box.height);
  }

  /**
   * A place of the source, in shares, on the canvas; each frame through its own warp.
   * @param {Part} part
   * @param {Place} place
   * @param {number} at frame of the range
   * @returns {Spot}
   */
  place({ lattice, box }, [x, y], at = this.clock.at) {
    const [u, v] = lattice.unmap(at, x, y);
    return [box.left + u * box.width, box.top + v * box.height];
  }

  /**
   * What is drawn where. Outside the range nothing is treated.
   * @returns {Part[]}
   */
  layout() {
    const { width, height } = this.picture;
    const whole = { left: 0, top: 0, width, height };
    const { outside } = this.clock;
    const { mode, peek } = this.view();
    const original = {
      ...(this.original ?? { lattice: straight, output: this.source }),
      name: outside ? "outside the range" : "original",
    };
    const other = outside ? original : (this.against ?? original);
    /**
     * @param {boolean} treated
     * @param {Box} region
     * @param {number} side
     */
    const part = (treated, region, side = 0) => ({
      treated,
      name: treated ? "treated" : other.name,
      lattice: treated ? this.lattice : other.lattice,
      output: treated ? this.output : other.output,
      region,
      box: this.box(region, treated ? this.output : other.output),
      side,
    });
    if (peek || outside || mode === "original") return [part(false, whole)];
    if (mode === "side") {
      const left = { left: 0, top: 0, width: width / 2, height };
      const right = part(true, { ...left, left: width / 2 });
      if (!this.sphere) return [part(false, left), right];
      const box = this.box(left, this.sphere.output);
      return [{ ...right, ...this.sphere, name: "steadied sphere", region: left, box }, right];
    }
    if (mode === "split") return [part(false, whole, -1), part(true, whole, 1)];
    return [part(true, whole)];
  }

  /** Whether what changes from frame to frame is shown. */
  get differs() {
    const { mode, peek } = this.view();
    return mode === "difference" && !peek && !this.clock.outside;
  }

  /**
   * The dividing line: a normal pointing to the treated side, and a point on it, canvas pixels.
   * @returns {{ point: Spot, normal: Spot, box: Box }}
   */
  line() {
    const { width, height } = this.picture;
    const whole = { left: 0, top: 0, width, height };
    const box = this.box(whole, this.original ? this.output : this.source);
    return {
      point: [box.left + this.split.x * box.width, box.top + this.split.y * box.height],
      normal: [Math.cos(this.split.turn), Math.sin(this.split.turn)],
      box,
    };
  }

  // --- drawing -----------------------------------------------------------------------------------

  draw() {
    this.renderer.clear();
    if (!this.loaded) return;
    const { differs } = this;
    const view = this.view();
    const ready = !differs || this.texture?.follows(this.frame);
    const how = {
      ...this.plainly(),
      differs,
      hatched: view.bare && !view.clean,
    };
    // What is compared with is not drawn exactly, unless it is the original.
    if (this.against) how.exact = null;
    if (ready) for (const part of this.layout()) this.renderer.draw(part, how);
    this.overlay.draw();
  }

  /** How a part is drawn: as it is at this frame, with nothing else. */
  plainly() {
    return {
      at: this.clock.at,
      differs: false,
      hatched: false,
      line: this.line(),
      across: this.source.width,
      exact: this.exactNow,
    };
  }

  /**
   * The recorded picture and the treated one, so many pixels wide, four bytes a pixel, the lowest
   * row first; null as long as there is none.
   * @param {number} width
   */
  small(width) {
    if (!this.loaded) return null;
    const { output, source, lattice } = this;
    const height = Math.round((width * output.height) / (output.width * output.aspect));
    const whole = { left: 0, top: 0, width, height };
    const part = { region: whole, box: whole, side: 0, name: "" };
    const parts = [
      { ...part, treated: false, lattice: straight, output: source },
      { ...part, treated: true, lattice, output },
    ];
    const how = this.plainly();
    if (how.exact?.mapped) how.exact = null;
    return { width, height, bytes: this.renderer.pixels(parts, how, width, height) };
  }

  drawOver() {
    this.overlay.draw();
  }
}
