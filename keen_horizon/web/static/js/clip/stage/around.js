// Where a picture that is taken out of a sphere comes from: the whole sphere again, or what a flat
// camera sees in it; turned. Used in a lattice's place. Rays: x right, y down, z forward.
import { unpack } from "../../lib/api.js";
import { alongLine } from "../treatment.js";
import { straight } from "./lattice.js";

/** @typedef {[number, number, number]} Ray */
/** @typedef {number[]} Turn nine numbers of a rotation, row by row */
/** @typedef {"sphere" | "rectilinear" | "stereographic" | "cylindrical"} Projection */
/**
 * @typedef {{ projection: Projection, width: number, height: number, angle: number, widest: number }}
 *   Camera
 */

/** @type {Record<Projection, number>} as shaders know them */
export const PROJECTIONS = { sphere: 0, rectilinear: 1, stereographic: 2, cylindrical: 3 };
const NONE = [1, 0, 0, 0, 1, 0, 0, 0, 1];
const BEND = 27; // numbers of a frame's bend
const STRAIGHT = new Array(BEND).fill(0);

/** The recorded sphere's own picture: places in it are shares, whatever its size. @type {Camera} */
const ALL = { projection: "sphere", width: 2, height: 1, angle: 360, widest: 360 };

/** @param {number} degrees */
export const radians = (degrees) => (degrees * Math.PI) / 180;

/**
 * One turn after another.
 * @param {Turn} a the later one
 * @param {Turn} b
 * @returns {Turn}
 */
export function after(a, b) {
  const out = [];
  for (let i = 0; i < 3; i++) {
    for (let j = 0; j < 3; j++) {
      out.push(a[3 * i] * b[j] + a[3 * i + 1] * b[3 + j] + a[3 * i + 2] * b[6 + j]);
    }
  }
  return out;
}

/**
 * @param {Turn} m
 * @returns {Turn}
 */
export const back = (m) => [m[0], m[3], m[6], m[1], m[4], m[7], m[2], m[5], m[8]];

/**
 * @param {Turn} m
 * @param {Ray} ray
 * @returns {Ray}
 */
export const turned = (m, [x, y, z]) => [
  m[0] * x + m[1] * y + m[2] * z,
  m[3] * x + m[4] * y + m[5] * z,
  m[6] * x + m[7] * y + m[8] * z,
];

/**
 * From rays of a flat camera to those of the sphere it looks out of: to the right, then upwards,
 * then rolled clockwise, degrees.
 * @param {number} yaw
 * @param {number} pitch
 * @param {number} roll
 * @returns {Turn}
 */
export function lookTurn(yaw, pitch, roll) {
  const [[cy, sy], [cp, sp], [cr, sr]] = [yaw, pitch, roll].map((degrees) => [
    Math.cos(radians(degrees)),
    Math.sin(radians(degrees)),
  ]);
  const lean = [cr, -sr, 0, sr, cr, 0, 0, 0, 1];
  return after([cy, 0, sy, 0, 1, 0, -sy, 0, cy], after([1, 0, 0, 0, cp, -sp, 0, sp, cp], lean));
}

/**
 * The yaw and the pitch, degrees, that look along a ray.
 * @param {Ray} ray
 */
export const wayOf = ([x, y, z]) => ({
  yaw: (Math.atan2(x, z) * 180) / Math.PI,
  pitch: (-Math.asin(Math.max(-1, Math.min(1, y / Math.hypot(x, y, z)))) * 180) / Math.PI,
});

/**
 * How far a camera's picture reaches, across and down, in the units that its projection counts in.
 * @param {Camera} camera
 * @returns {[number, number]}
 */
function scale({ projection, width, height, angle, widest }) {
  if (projection === "sphere") return [2 * Math.PI, Math.PI];
  const half = (width - 1) / 2;
  const turn = radians(Math.min(angle, widest)) / 2;
  const units = {
    rectilinear: half / Math.tan(turn),
    stereographic: half / Math.tan(turn / 2),
    cylindrical: half / turn,
  };
  return [width / units[projection], height / units[projection]];
}

/**
 * @param {Camera} camera
 * @param {number} u share of the picture
 * @param {number} v
 * @param {[number, number]} [reach] its {@link scale}, where that is known
 * @returns {Ray}
 */
function rayAt(camera, u, v, [wide, high] = scale(camera)) {
  const [x, y] = [(u - 0.5) * wide, (v - 0.5) * high];
  if (camera.projection === "rectilinear") return [x, y, 1];
  if (camera.projection === "stereographic") return [2 * x, 2 * y, 1 - x * x - y * y];
  if (camera.projection === "cylindrical") return [Math.sin(x), y, Math.cos(x)];
  return [Math.sin(x) * Math.cos(y), Math.sin(y), Math.cos(x) * Math.cos(y)];
}

/**
 * Where a camera shows a ray, in shares of its picture; far away if it does not.
 * @param {Camera} camera
 * @param {Ray} ray
 * @param {[number, number]} [reach] its {@link scale}, where that is known
 * @returns {[number, number]}
 */
function placeOf(camera, [x, y, z], [wide, high] = scale(camera)) {
  const level = Math.hypot(x, z);
  let at = [Math.atan2(x, z), Math.atan2(y, level)];
  if (camera.projection === "rectilinear") at = z > 1e-6 ? [x / z, y / z] : [1e6, 1e6];
  if (camera.projection === "stereographic") {
    const ahead = Math.max(1e-9, Math.hypot(x, y, z) + z);
    at = [x / ahead, y / ahead];
  }
  if (camera.projection === "cylindrical") at[1] = y / Math.max(1e-9, level);
  return [at[0] / wide + 0.5, at[1] / high + 0.5];
}

/** A picture out of a sphere, frame by frame. */
export class Around {
  /**
   * @param {object} made
   * @param {(n: number) => Camera} made.camera of a frame of the range
   * @param {(n: number) => Turn} made.look its rays to the sphere's that it looks out of
   * @param {((n: number) => Turn) | null} made.turn that sphere's rays to the recorded one's; null:
   *   it is the recorded one
   * @param {(n: number) => Turn} made.steady the steadied sphere's rays to the recorded one's
   * @param {((n: number) => number[]) | null} made.bend of the recorded sphere by its stitching: three
   *   matrices, as the core has them. Places are told without it: it is less than a pixel or two.
   * @param {number} made.meets where halves of the sphere blend, of a ray's share of the axis
   * @param {number} made.length frames
   * @param {number[]} made.eye of the film's picture: left, top, width, height, in shares
   */
  constructor({ camera, look, turn, steady, bend, meets, length, eye }) {
    this.camera = camera;
    this.look = look;
    this.turn = turn;
    this.steady = steady;
    this.bend = turn ? bend : null; // the recorded sphere is shown as it is
    this.meets = meets;
    this.length = length;
    this.eye = eye;
    this.columns = straight.columns;
    this.rows = straight.rows;
  }

  /** All frames are there. */
  holds() {
    return true;
  }

  /** The corners of a picture; what lies between is told pixel by pixel. */
  frame() {
    return straight.frame(0);
  }

  /**
   * From rays of the picture to the recorded sphere's.
   * @param {number} n
   */
  whole(n) {
    const look = this.look(n);
    return this.turn ? after(this.turn(n), look) : look;
  }

  /**
   * Tells the rays of places of the picture in a frame, in its own axes: of many, quickly.
   * @param {number} n
   * @returns {(u: number, v: number) => Ray}
   */
  looking(n) {
    const camera = this.camera(n);
    const reach = scale(camera);
    return (u, v) => rayAt(camera, u, v, reach);
  }

  /**
   * What a shader has to know.
   * @param {number} n
   */
  optics(n) {
    const camera = this.camera(n);
    const bend = this.bend?.(n) ?? STRAIGHT;
    return {
      spread: bend.slice(0, 9),
      twist: bend.slice(9, 18),
      halves: back(bend.slice(18)),
      turn: back(this.whole(n)), // graphics cards count by columns
      optics: [PROJECTIONS[camera.projection], ...scale(camera), this.bend ? this.meets : 0],
      eye: this.eye,
    };
  }

  /**
   * Where in the recorded sphere a place comes from, in shares of its picture.
   * @param {number} n
   * @param {number} u
   * @param {number} v
   * @returns {[number, number]}
   */
  map(n, u, v) {
    const ray = turned(this.whole(n), rayAt(this.camera(n), u, v));
    return placeOf(ALL, ray);
  }

  /**
   * Where a place of the recorded sphere is shown.
   * @param {number} n
   * @param {number} x
   * @param {number} y
   * @returns {[number, number]}
   */
  unmap(n, x, y) {
    return placeOf(this.camera(n), turned(back(this.whole(n)), rayAt(ALL, x, y)));
  }

  /**
   * The ray of the steadied sphere that is shown at a place.
   * @param {number} n
   * @param {number} u
   * @param {number} v
   * @returns {Ray}
   */
  steadiedAt(n, u, v) {
    const recorded = turned(this.whole(n), rayAt(this.camera(n), u, v));
    return turned(back(this.steady(n)), recorded);
  }

  /**
   * Tells where rays of the steadied sphere are shown in a frame: of many, quickly.
   * @param {number} n
   * @returns {(ray: Ray) => [number, number]}
   */
  placing(n) {
    const camera = this.camera(n);
    const reach = scale(camera);
    const turn = after(back(this.whole(n)), this.steady(n));
    return (ray) => placeOf(camera, turned(turn, ray), reach);
  }

  /** @param {number} n */
  isWhole(n) {
    return this.camera(n).projection === "sphere";
  }
}

/**
 * The pictures that are shown of a sphere: the steadied one or what the flat camera sees in it, what
 * that is compared with, and the steadied sphere itself; and what the view is set to at a frame.
 * @param {PackedSphere} sphere
 * @param {((name: string, n: number) => number) | null} set what the page has the view set to, if
 *   that is ahead of the server
 */
export function picturesOf({ turns: packed, bends: bent, meets, eye, shape, view }, set = null) {
  const turns = unpack(packed);
  const bends = bent ? unpack(bent) : null;
  const last = turns.length / 9 - 1;
  const lines = Object.fromEntries(
    Object.entries(view.values).map(([name, line]) => [name, unpack(line)]),
  );
  // What it follows is known to the server alone.
  const told = view.follows ? ["yaw", "pitch"] : [];
  /**
   * @param {string} name
   * @param {number} n
   */
  const looks = (name, n) =>
    set && !told.includes(name) ? set(name, n) : alongLine(lines[name], n);
  /** @param {number} n */
  const steady = (n) => {
    const at = 9 * Math.max(0, Math.min(last, n));
    return Array.from(turns.subarray(at, at + 9));
  };
  /** @param {number} n */
  const bendOf = (n) => {
    const at = BEND * Math.max(0, Math.min(last, n));
    return Array.from((bends ?? []).slice(at, at + BEND));
  };
  const common = { steady, bend: bends && bendOf, meets, eye, length: last + 1 };
  const round = { ...common, camera: () => ALL, look: () => NONE };
  const whole = { ...shape, aspect: 1 };
  const sphere = { lattice: new Around({ ...round, turn: steady }), output: whole };
  if (!view.on) {
    const recorded = { lattice: new Around({ ...round, turn: null }), output: whole };
    return { treated: sphere, original: recorded, sphere: null, looks };
  }
  const output = { width: view.width, height: view.height, aspect: 1 };
  const flat = {
    ...common,
    /** @param {number} n */
    camera: (n) => ({ ...view, angle: looks("angle", n) }),
    /** @param {number} n */
    look: (n) => lookTurn(looks("yaw", n), looks("pitch", n), looks("roll", n)),
  };
  return {
    treated: { lattice: new Around({ ...flat, turn: steady }), output },
    original: { lattice: new Around({ ...flat, turn: null }), output },
    sphere,
    looks,
  };
}
