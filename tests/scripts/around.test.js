// Pictures out of spheres: where they come from, by rays and between the nodes of a mesh.
import assert from "node:assert/strict";
import { test } from "node:test";
import { script } from "./page.js";

const { Around, lookTurn } = await script("clip/stage/around.js");
const { AroundMesh } = await script("clip/stage/around-mesh.js");

/**
 * @param {number[]} found
 * @param {number[]} meant
 */
const near = (found, meant) =>
  meant.forEach((value, k) => assert.ok(Math.abs(found[k] - value) < 1e-6, `${found}: ${meant}`));

const NONE = [1, 0, 0, 0, 1, 0, 0, 0, 1];
const UNIT = 1920 / (2 * Math.PI); // px of a proxy of 1920 × 960, of a radian

/**
 * @param {string} projection
 * @param {number} angle
 * @param {number[]} look yaw, pitch and roll, degrees
 */
const view = (projection, angle, look) =>
  new Around({
    camera: () => ({ projection, width: 1280, height: 720, angle, widest: 360 }),
    look: () => lookTurn(...look),
    turn: () => lookTurn(20, -10, 5),
    steady: () => NONE,
    bend: null,
    meets: 0.1,
    length: 1,
    eye: [0, 0, 1, 1],
  });

/**
 * By how many px of the film's picture the middles of triangles miss where they come from.
 * @param {InstanceType<typeof Around>} around
 * @param {ReturnType<InstanceType<typeof AroundMesh>["weave"]>} woven
 */
function misses(around, { columns, rows, places, even }) {
  const found = [];
  for (let t = 0; t < even.length; t += 3) {
    const sum = [0, 0, 0, 0]; // u, v, x and y of the middle
    for (const k of even.subarray(t, t + 3)) {
      sum[0] += (k % columns) / (columns - 1) / 3;
      sum[1] += Math.floor(k / columns) / (rows - 1) / 3;
      sum[2] += places[2 * k] / 3;
      sum[3] += places[2 * k + 1] / 3;
    }
    const whence = around.map(0, sum[0], sum[1]);
    const across = sum[2] - whence[0];
    const level = Math.cos((whence[1] - 0.5) * Math.PI);
    const aside = 2 * Math.PI * (across - Math.round(across)) * level;
    found.push(Math.hypot(aside, Math.PI * (sum[3] - whence[1])) * UNIT);
  }
  return found;
}

test("between nodes a flat view comes from where its rays lead, the seam and the poles in view", () => {
  for (const look of [
    [0, 0, 0],
    [170, 30, 20],
    [60, -75, 0],
    [-140, 88, 10],
  ]) {
    for (const [projection, angle] of /** @type {[string, number][]} */ ([
      ["rectilinear", 90],
      ["rectilinear", 120],
      ["stereographic", 200],
      ["cylindrical", 180],
    ])) {
      const around = view(projection, angle, look);
      const woven = new AroundMesh().weave(around, 0, UNIT);
      const off = misses(around, woven);
      assert.ok(
        Math.max(0, ...off) < 0.25,
        `${projection} ${angle}, ${look}: ${Math.max(...off)} px`,
      );
      const triangles = 2 * (woven.columns - 1) * (woven.rows - 1);
      assert.equal((woven.even.length + woven.rest.length) / 3, triangles);
    }
  }
});

test("a usual view is drawn between nodes alone; a pole in it is left to each pixel's ray", () => {
  const mesh = new AroundMesh();
  const usual = mesh.weave(view("rectilinear", 90, [-20, 10, 0]), 0, UNIT);
  assert.equal(usual.rest.length, 0);
  assert.equal(usual.wraps, false);
  assert.equal(mesh.weave(view("rectilinear", 90, [160, 10, 0]), 0, UNIT).wraps, true);
  const above = mesh.weave(view("rectilinear", 90, [-20, 85, 0]), 0, UNIT);
  assert.ok(above.rest.length > 0 && above.even.length > 0);
});

test("of two eyes in one picture a view comes from its own", () => {
  const both = view("rectilinear", 90, [-20, 10, 0]);
  both.eye = [0, 0.5, 1, 0.5];
  const { places } = new AroundMesh().weave(both, 0, UNIT);
  const whole = new AroundMesh().weave(view("rectilinear", 90, [-20, 10, 0]), 0, UNIT).places;
  near([places[0], places[1]], [whole[0], 0.5 + whole[1] / 2]);
});

test("what stitching bends is bent at the nodes, too", () => {
  const flat = view("rectilinear", 90, [0, 0, 0]);
  flat.bend = () => [0.01, 0, 0, 0, -0.01, 0, 0, 0, 0, ...new Array(18).fill(0)];
  const straight = new AroundMesh().weave(view("rectilinear", 90, [0, 0, 0]), 0, UNIT);
  const bent = new AroundMesh().weave(flat, 0, UNIT);
  /** @type {number[]} */
  const places = [...bent.places];
  const most = Math.max(...places.map((place, k) => Math.abs(place - straight.places[k])));
  assert.ok(most > 0.0005 && most < 0.005);
});

test("where a ray is shown leads back to where it came from", () => {
  const around = view("rectilinear", 100, [40, 10, 5]);
  for (const [u, v] of [
    [0.1, 0.2],
    [0.5, 0.5],
    [0.9, 0.7],
  ]) {
    const [x, y] = around.placing(0)(around.steadiedAt(0, u, v));
    assert.ok(Math.abs(x - u) < 1e-9 && Math.abs(y - v) < 1e-9);
  }
});
