// Pictures drawn through lattices, with WebGL.
import { unpack } from "../../lib/api.js";
import {
  CHANGED,
  PARTIAL,
  PLAIN,
  VERTEX,
  cornerRule,
  fromSphere,
  overSeam,
  withStages,
} from "./shaders.js";
import { Around } from "./around.js";
import { AroundMesh } from "./around-mesh.js";
import { straight } from "./lattice.js";
import { PictureTexture } from "./texture.js";
import { SLOTS, Triangles } from "./triangles.js";

const UNIFORMS = ["box", "cut", "hatch", "dead", "height", "before", "texel"];
const AROUND_UNIFORMS = [
  "turn",
  "spread",
  "twist",
  "halves",
  "turn_was",
  "spread_was",
  "twist_was",
  "halves_was",
  "optics",
  "eye",
];

/** @typedef {{ program: WebGLProgram, where: Record<string, WebGLUniformLocation | null> }} Program */
/** @typedef {{ name: string, size: number, values: Float32Array }} Uniform */
/**
 * @typedef {object} How a part is drawn
 * @property {number} at frame of the range
 * @property {boolean} differs what changes from frame to frame, instead of the picture
 * @property {boolean} hatched
 * @property {{ point: Spot, normal: Spot }} line that divides two parts
 * @property {number} across px of the source
 * @property {import("./exact.js").ExactPictures | null} exact to be drawn instead
 */
/** @typedef {"flat" | "overSeam" | null} Between nodes of a picture out of a sphere, or by rays */
/**
 * @typedef {object} Pass of drawing a part
 * @property {Part} part
 * @property {How} how
 * @property {boolean} marked where dead corners are hatched
 * @property {boolean} cut where it is not drawn whole, or bare
 * @property {boolean} treated by what stations do to pixels
 * @property {Around | null} around what it is taken out of a sphere by
 */

/**
 * Whether all nodes, shares of the source, lie inside it: between them there is nothing outside.
 * @param {Float32Array} nodes
 */
const within = (nodes) => nodes.every((share) => share >= 0 && share <= 1);

/**
 * What is taken out of a sphere.
 * @param {Part["lattice"]} lattice
 */
const aroundOf = (lattice) => (lattice instanceof Around ? lattice : null);

export class Renderer {
  /**
   * @param {HTMLCanvasElement} canvas
   * @param {HTMLVideoElement} video
   */
  constructor(canvas, video) {
    this.canvas = canvas;
    this.video = video;
    /** @type {PixelStage[]} */
    this.stages = [];
    /** @type {number[][]} of what is left of the picture: outside where a x + b y > c */
    this.sides = [];
    /** @type {Uniform[]} */
    this.uniforms = [];
    /** Called when the graphics card was lost, and when it is back. */
    this.lost = () => {};
    this.restored = () => {};
    const gl = canvas.getContext("webgl", { antialias: false });
    if (!gl) throw new Error("This browser cannot draw with WebGL, which the picture needs.");
    this.gl = gl;
    this.start();
    canvas.addEventListener("webglcontextlost", (event) => {
      event.preventDefault(); // so that it may come back
      this.lost();
    });
    canvas.addEventListener("webglcontextrestored", () => {
      this.start();
      this.restored();
    });
  }

  aroundMesh = new AroundMesh();
  /** @type {{ width: number, height: number } | null} what is drawn into instead of the canvas */
  target = null;

  /** Everything that lives on the graphics card. */
  start() {
    const { gl } = this;
    this.texture = new PictureTexture(gl, this.video);
    this.triangles = new Triangles(gl);
    this.link();
  }

  /**
   * What is done to pixels besides the warp, and where there are none worth it.
   * @param {PixelStage[]} stages
   * @param {number[][]} [sides]
   */
  setStages(stages, sides = []) {
    const rules = (/** @type {PixelStage[]} */ list) => list.map((one) => one.shader).join("\n");
    const alike = cornerRule(sides) === cornerRule(this.sides);
    const same = alike && rules(stages) === rules(this.stages);
    this.stages = stages;
    this.sides = sides;
    this.uniforms = stages.flatMap((stage) =>
      Object.entries(stage.uniforms).map(([name, { size, values }]) => ({
        name,
        size,
        values: unpack(values),
      })),
    );
    if (!same) this.link();
  }

  link() {
    const partial = PARTIAL.replace("//corners", cornerRule(this.sides));
    /** @type {ReturnType<Renderer["aroundPrograms"]> | null} */
    this.around = null;
    this.programs = {
      plain: this.program(withStages(PLAIN, this.stages)),
      partial: this.program(withStages(partial, this.stages)),
      changed: this.program(withStages(CHANGED, this.stages)),
      // The original is drawn without what stations do.
      plainAsIs: this.program(withStages(PLAIN, [])),
      partialAsIs: this.program(withStages(partial, [])),
    };
  }

  /** The same for pictures out of spheres: linked once somebody asks. */
  aroundPrograms() {
    const partialToo = PARTIAL.replace("//corners", cornerRule([]));
    /** @param {string} shader @param {PixelStage[]} stages */
    const made = (shader, stages) => this.program(fromSphere(withStages(shader, stages)));
    /** @param {string} shader @param {PixelStage[]} stages */
    const woven = (shader, stages) => this.program(overSeam(withStages(shader, stages)));
    return {
      plain: made(PLAIN, this.stages),
      partial: made(partialToo, this.stages),
      changed: made(CHANGED, this.stages),
      plainAsIs: made(PLAIN, []),
      partialAsIs: made(partialToo, []),
      overSeam: {
        plain: woven(PLAIN, this.stages),
        partial: woven(partialToo, this.stages),
        plainAsIs: woven(PLAIN, []),
        partialAsIs: woven(partialToo, []),
      },
    };
  }

  /**
   * A linked program and where its uniforms are.
   * @param {string} fragment
   * @returns {Program}
   */
  program(fragment) {
    const { gl } = this;
    const program = /** @type {WebGLProgram} */ (gl.createProgram());
    for (const [kind, text] of /** @type {[number, string][]} */ ([
      [gl.VERTEX_SHADER, VERTEX],
      [gl.FRAGMENT_SHADER, fragment],
    ])) {
      const shader = /** @type {WebGLShader} */ (gl.createShader(kind));
      gl.shaderSource(shader, text);
      gl.compileShader(shader);
      if (!gl.getShaderParameter(shader, gl.COMPILE_STATUS) && !gl.isContextLost()) {
        throw new Error(gl.getShaderInfoLog(shader) ?? "A shader cannot be compiled.");
      }
      gl.attachShader(program, shader);
    }
    SLOTS.forEach((name, slot) => gl.bindAttribLocation(program, slot, name));
    gl.linkProgram(program);
    const names = [...UNIFORMS, ...AROUND_UNIFORMS, ...this.uniforms.map(({ name }) => name)];
    const where = Object.fromEntries(
      names.map((name) => [name, gl.getUniformLocation(program, name)]),
    );
    return { program, where };
  }

  clear() {
    const { gl, canvas } = this;
    gl.viewport(0, 0, canvas.width, canvas.height);
    gl.clearColor(0, 0, 0, 0);
    gl.clear(gl.COLOR_BUFFER_BIT);
  }

  /**
   * Draw a part of the stage.
   * @param {Part} part
   * @param {How} how
   */
  draw(part, how) {
    const { gl, size } = this;
    const { lattice, region } = part;
    const drawn = how.differs ? null : how.exact;
    const shown = drawn ? straight : lattice;
    const nodes = shown.frame(how.at);
    const marked = how.hatched && this.showsCorners(part, nodes, drawn);
    gl.enable(gl.SCISSOR_TEST);
    const bottom = size.height - region.top - region.height;
    gl.scissor(region.left, bottom, region.width, region.height);
    drawn?.bind(gl, part.treated);
    const cut = Boolean(part.side) || marked || !within(nodes);
    const around = aroundOf(shown);
    const pass = { part, how, marked, cut, around, treated: !drawn && part.treated };
    if (around && !how.differs) this.drawWoven(pass, around);
    else this.drawMesh(pass, shown, nodes);
    if (drawn) this.texture?.bind();
    gl.disable(gl.SCISSOR_TEST);
  }

  /**
   * A picture between the nodes of its lattice.
   * @param {Pass} pass
   * @param {Part["lattice"]} shown
   * @param {Float32Array} nodes
   */
  drawMesh(pass, shown, nodes) {
    const { at, differs } = pass.how;
    const before = differs ? pass.part.lattice.frame(at - 1) : nodes;
    if (this.use(pass)) this.triangles?.draw(shown, nodes, before);
  }

  /**
   * A picture out of a sphere: between nodes where it may, the rest by each pixel's ray.
   * @param {Pass} pass
   * @param {Around} around
   */
  drawWoven(pass, around) {
    const unit = (this.video.videoWidth * around.eye[2]) / (2 * Math.PI);
    const woven = this.aroundMesh.weave(around, pass.how.at, unit);
    const { even, rest, places, wraps } = woven;
    const between = wraps ? "overSeam" : "flat";
    if (even.length && this.use(pass, between)) this.triangles?.draw(woven, places, places, even);
    if (rest.length && this.use(pass)) this.triangles?.draw(woven, places, places, rest);
  }

  /**
   * Draw by the program for a pass from now on, if there is one.
   * @param {Pass} pass
   * @param {Between} [between]
   */
  use(pass, between = null) {
    const linked = this.linked(pass, between);
    if (!linked) return false;
    const { gl, size } = this;
    const { program, where } = linked;
    const { box, side } = pass.part;
    const { at, hatched, line, across } = pass.how;
    gl.useProgram(program);
    const [wide, high] = [size.width, size.height];
    gl.uniform4f(where.box, box.left / wide, box.top / high, box.width / wide, box.height / high);
    const { point, normal } = line;
    const offset = point[0] * normal[0] + point[1] * normal[1];
    gl.uniform4f(where.cut, normal[0], normal[1], offset, side);
    gl.uniform1f(where.hatch, Number(hatched));
    gl.uniform1f(where.dead, Number(pass.marked));
    gl.uniform1f(where.height, high);
    gl.uniform1i(where.before, 1);
    this.setUniforms(where, pass.around, at, across);
    return true;
  }

  /**
   * Whether something of a part lies in a dead corner, as its nodes tell, x and y in shares of the
   * source. An exact picture of what is treated does not tell where in the source it is from.
   * @param {Part} part
   * @param {Float32Array} nodes
   * @param {import("./exact.js").ExactPictures | null} drawn
   */
  showsCorners({ treated }, nodes, drawn) {
    if (drawn && treated) return false;
    return this.sides.some(([a, b, c]) => {
      for (let k = 0; k < nodes.length; k += 2) {
        if (a * nodes[k] + b * nodes[k + 1] > c) return true;
      }
      return false;
    });
  }

  /** What is drawn into: the canvas, or something smaller. */
  get size() {
    return this.target ?? this.canvas;
  }

  /**
   * Draw parts small, each by itself, and read them back: four bytes a pixel, the lowest row first,
   * one part after the other.
   * @param {Part[]} parts
   * @param {How} how
   * @param {number} width
   * @param {number} height
   */
  pixels(parts, how, width, height) {
    const { gl } = this;
    const bytes = new Uint8Array(4 * width * height * parts.length);
    const frame = gl.createFramebuffer();
    const texture = gl.createTexture();
    gl.activeTexture(gl.TEXTURE2);
    gl.bindTexture(gl.TEXTURE_2D, texture);
    gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, width, height, 0, gl.RGBA, gl.UNSIGNED_BYTE, null);
    gl.activeTexture(gl.TEXTURE0);
    gl.bindFramebuffer(gl.FRAMEBUFFER, frame);
    gl.framebufferTexture2D(gl.FRAMEBUFFER, gl.COLOR_ATTACHMENT0, gl.TEXTURE_2D, texture, 0);
    this.target = { width, height };
    parts.forEach((part, k) => {
      gl.viewport(0, 0, width, height);
      gl.clearColor(0, 0, 0, 1);
      gl.clear(gl.COLOR_BUFFER_BIT);
      this.draw(part, how);
      const one = bytes.subarray(4 * width * height * k, 4 * width * height * (k + 1));
      gl.readPixels(0, 0, width, height, gl.RGBA, gl.UNSIGNED_BYTE, one);
    });
    this.target = null;
    gl.bindFramebuffer(gl.FRAMEBUFFER, null);
    gl.deleteFramebuffer(frame);
    gl.deleteTexture(texture);
    gl.viewport(0, 0, this.canvas.width, this.canvas.height);
    return bytes;
  }

  /**
   * The program for a pass.
   * @param {Pass} pass
   * @param {Between} between
   */
  linked({ how, cut, treated, around }, between) {
    if (around) this.around ??= this.aroundPrograms();
    const programs = around && !between ? this.around : this.programs;
    if (how.differs) return programs?.changed;
    const name = cut ? "partial" : "plain";
    const own = treated ? name : /** @type {const} */ (`${name}AsIs`);
    return (between === "overSeam" ? this.around?.overSeam : programs)?.[own];
  }

  /**
   * @param {Record<string, WebGLUniformLocation | null>} where
   * @param {Around} around
   * @param {number} at
   */
  setOptics(where, around, at) {
    const { gl } = this;
    const { turn, spread, twist, halves, optics, eye } = around.optics(at);
    const was = around.optics(Math.max(0, at - 1));
    gl.uniformMatrix3fv(where.turn, false, turn);
    gl.uniformMatrix3fv(where.spread, false, spread);
    gl.uniformMatrix3fv(where.twist, false, twist);
    gl.uniformMatrix3fv(where.halves, false, halves);
    gl.uniformMatrix3fv(where.turn_was, false, was.turn);
    gl.uniformMatrix3fv(where.spread_was, false, was.spread);
    gl.uniformMatrix3fv(where.twist_was, false, was.twist);
    gl.uniformMatrix3fv(where.halves_was, false, was.halves);
    gl.uniform4fv(where.optics, optics);
    gl.uniform4fv(where.eye, eye);
  }

  /**
   * @param {Record<string, WebGLUniformLocation | null>} where
   * @param {Around | null} around
   * @param {number} at
   * @param {number} across
   */
  setUniforms(where, around, at, across) {
    if (around) this.setOptics(where, around, at);
    const { gl } = this;
    const { videoWidth, videoHeight } = this.video;
    gl.uniform3f(where.texel, 1 / videoWidth, 1 / videoHeight, videoWidth / across);
    for (const { name, size, values } of this.uniforms) {
      const count = values.length / size;
      const start = size * Math.max(0, Math.min(count - 1, at));
      const now = values.subarray(start, start + size);
      if (size === 1) gl.uniform1fv(where[name], now);
      else if (size === 2) gl.uniform2fv(where[name], now);
      else if (size === 3) gl.uniform3fv(where[name], now);
      else gl.uniform4fv(where[name], now);
    }
  }
}
