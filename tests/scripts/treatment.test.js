// Values and keyframes of a treatment.
import assert from "node:assert/strict";
import { beforeEach, test } from "node:test";
import { script } from "./page.js";

const {
  defaultsOf,
  dropKey,
  hasEffect,
  keyFrames,
  keysOf,
  moveKeys,
  namesAt,
  nextKeyFrame,
  putKey,
  replaceGroup,
  rounded,
  setValue,
  valueOf,
} = await script("clip/treatment.js");

/** @type {any} */
let treatment;

beforeEach(() => {
  treatment = { motion: { calm: 50, ease: 0 }, frame: { zoom: 1, swell: 0 }, keys: {} };
});

const frames = () => keysOf(treatment, "frame.zoom").map((/** @type {any} */ key) => key.frame);

test("a value is read and set by the name of its setting", () => {
  setValue(treatment, "motion.calm", 62);
  assert.equal(valueOf(treatment, "motion.calm"), 62);
  assert.equal(valueOf(treatment, "nowhere.calm"), undefined);
});

test("keyframes stay in order, and one of the same frame gives way", () => {
  for (const frame of [30, 10, 20]) putKey(treatment, "frame.zoom", frame, frame / 10);
  putKey(treatment, "frame.zoom", 20, 9, false);
  assert.deepEqual(frames(), [10, 20, 30]);
  assert.deepEqual(keysOf(treatment, "frame.zoom")[1], { frame: 20, value: 9, smooth: false });
  putKey(treatment, "frame.zoom", 20, 8);
  assert.equal(keysOf(treatment, "frame.zoom")[1].smooth, false, "it goes on as it did");
});

test("the last keyframe leaves its value behind", () => {
  putKey(treatment, "frame.zoom", 10, 1.2);
  putKey(treatment, "frame.zoom", 20, 1.4);
  dropKey(treatment, "frame.zoom", 15);
  assert.deepEqual(frames(), [10, 20]);
  dropKey(treatment, "frame.zoom", 10);
  dropKey(treatment, "frame.zoom", 20);
  assert.deepEqual(treatment.keys, {});
  assert.equal(valueOf(treatment, "frame.zoom"), 1.4);
});

test("all keyframes of a frame move together, over what is there", () => {
  putKey(treatment, "frame.zoom", 10, 1.2);
  putKey(treatment, "frame.zoom", 20, 1.4);
  putKey(treatment, "motion.calm", 10, 60);
  moveKeys(treatment, 10, 20);
  assert.deepEqual(keysOf(treatment, "frame.zoom"), [{ frame: 20, value: 1.2, smooth: true }]);
  assert.deepEqual(namesAt(treatment, 20).sort(), ["frame.zoom", "motion.calm"]);
  moveKeys(treatment, 20, 20);
  assert.deepEqual(keyFrames(treatment), [20]);
});

test("one goes from keyframe to keyframe, of whatever setting", () => {
  putKey(treatment, "frame.zoom", 10, 1.2);
  putKey(treatment, "motion.calm", 30, 60);
  assert.equal(nextKeyFrame(treatment, 10, 1), 30);
  assert.equal(nextKeyFrame(treatment, 30, 1), undefined);
  assert.equal(nextKeyFrame(treatment, 29, -1), 10);
});

const settings = {
  "lens.k1": { group: "optics", default: 0, needs: [] },
  "lens.k2": { group: "optics", default: 0, needs: [] },
  "lens.amount": { group: "", default: 100, needs: [{ model: ["brown", "fisheye"] }] },
};

test("what is found together replaces all keyframes of its group, and no others", () => {
  treatment.lens = { k1: 0, k2: 0, amount: 100, model: "none" };
  for (const name of ["lens.k1", "lens.k2", "lens.amount"]) putKey(treatment, name, 5, 1);
  replaceGroup(treatment, settings, "lens", { k1: -0.2 });
  assert.deepEqual(Object.keys(treatment.keys), ["lens.amount"]);
  assert.equal(treatment.lens.k1, -0.2);
  assert.deepEqual(defaultsOf(settings, "lens", "optics"), { k1: 0, k2: 0 });
});

test("a setting that needs others has an effect only with them", () => {
  treatment.lens = { model: "none" };
  assert.equal(hasEffect(treatment, settings["lens.amount"], "lens"), false);
  treatment.lens.model = "fisheye";
  assert.equal(hasEffect(treatment, settings["lens.amount"], "lens"), true);
  assert.equal(hasEffect(treatment, settings["lens.k1"], "lens"), true);
});

test("a value keeps a tenth of its step, and three places at least", () => {
  assert.equal(rounded(1.23456, 0.1), 1.235);
  assert.equal(rounded(0.123456, 0.0001), 0.12346);
  assert.equal(rounded(41.99999, 1), 42);
});
