// Pure parts of the page: places, pins, lines, curves, shaders, waiting, preferences.
import assert from "node:assert/strict";
import { test } from "node:test";
import { answers, asked, kept, script } from "./page.js";

const { Lattice, straight } = await script("clip/stage/lattice.js");
const { roundedPins, withPin } = await script("stations/lens/pins.js");
const { bendOf } = await script("stations/lens/horizon.js");
const { calmAt } = await script("stations/motion/cost-chart.js");
const { Strip } = await script("clip/strip/strip.js");
const { extent, mostOf, secondsWords, span } = await script("clip/strip/lines.js");
const { CHANGED, PARTIAL, PLAIN, withStages } = await script("clip/stage/shaders.js");
const { footageIn } = await script("shelf/dropped.js");
const { preference, prefer } = await script("lib/preferences.js");
const { finished, gaveUp, jobWords, settled, timeLeft } = await script("lib/wait.js");

/**
 * @param {number[]} found
 * @param {number[]} meant
 */
const near = (found, meant) => {
  for (const [i, value] of meant.entries()) {
    assert.ok(Math.abs(found[i] - value) < 1e-6, `${found} is not ${meant}`);
  }
};

/** A strip without a page that writes down its words, each 7 px a letter wide. */
function words() {
  const strip = Object.assign(Object.create(Strip.prototype), { ratio: 1, taken: [] });
  strip.colour = () => "";
  const said = /** @type {string[]} */ ([]);
  const pen = {
    textAlign: "left",
    measureText: (/** @type {string} */ text) => ({ width: 7 * text.length }),
    fillText: (/** @type {string} */ text) => said.push(text),
  };
  return { strip, pen, said };
}

test("words along the strip give way to those that came first, and to their lines", () => {
  const { strip, pen, said } = words();
  strip.caption(pen, "tightest", 114, "", 100);
  strip.caption(pen, "cut", 120, "", 116); // beneath the first
  strip.caption(pen, "cut", 204, "", 200);
  strip.caption(pen, "2 s", 184, ""); // whose line the cut's would cross
  strip.caption(pen, "3 s", 244, "");
  assert.deepEqual(said, ["tightest", "cut", "3 s"]);
});

test("a word that is written to the left takes its room there", () => {
  const { strip, pen, said } = words();
  pen.textAlign = "right";
  strip.caption(pen, "tightest", 300, "", 314);
  pen.textAlign = "left";
  strip.caption(pen, "4 s", 250, "");
  strip.caption(pen, "5 s", 320, "");
  assert.deepEqual(said, ["tightest", "5 s"]);
});

test("the straight lattice leads every place to itself, and past its frames to the nearest", () => {
  near(straight.map(0, 0.3, 0.8), [0.3, 0.8]);
  near(straight.unmap(7, -0.2, 1.1), [-0.2, 1.1]);
});

test("a lattice that bends is led back by its inverse", () => {
  const [columns, rows] = [9, 5];
  const nodes = [];
  for (let j = 0; j < rows; j++) {
    for (let i = 0; i < columns; i++) {
      const [u, v] = [i / (columns - 1), j / (rows - 1)];
      nodes.push(u + 0.08 * Math.sin(3 * v), v + 0.06 * u * u);
    }
  }
  const bent = new Lattice(columns, rows, new Float32Array([...nodes, ...nodes]), 10);
  assert.equal(bent.length, 2);
  assert.deepEqual(
    [9, 10, 11, 12].map((n) => bent.holds(n)),
    [false, true, true, false],
  );
  const [x, y] = bent.map(11, 0.37, 0.61);
  near(bent.unmap(11, x, y), [0.37, 0.61]);
});

test("a pin at an end takes its place, one between stays in order", () => {
  const ends = [
    [0, 0],
    [1, 0],
  ];
  const three = withPin(ends, [0.5, 0.02]);
  assert.deepEqual(three, [
    [0, 0],
    [0.5, 0.02],
    [1, 0],
  ]);
  assert.deepEqual(withPin(three, [0.25, 0.01])[1], [0.25, 0.01]);
  assert.deepEqual(withPin(three, [0.53, 0.03])[1], [0.53, 0.03], "a close one is replaced");
  assert.deepEqual(withPin(three, [0.02, 0.1])[0], [0.02, 0.1]);
  assert.deepEqual(withPin(three, [1.1, 0.1])[2], [1.1, 0.1]);
  assert.deepEqual(roundedPins([[1 / 3, 2 / 3]]), [[0.333333, 0.666667]]);
});

test("a bent line is as far from the straight one as its farthest place", () => {
  const bend = bendOf([
    [0, 0],
    [5, 2],
    [8, -1],
    [10, 0],
  ]);
  assert.equal(bend, 2);
});

test("the cost curve is read between the points that were solved", () => {
  const points = [
    { calm: 0, kept: 100, shake: 9 },
    { calm: 50, kept: 90, shake: 3 },
    { calm: 100, kept: 70, shake: 1 },
  ];
  assert.equal(calmAt(points, 95), 25);
  assert.equal(calmAt(points, 80), 75);
  assert.equal(calmAt(points, 120), 0);
  assert.equal(calmAt(points, 10), 100);
});

test("lines know their extent, and a time its words", () => {
  const line = new Float32Array([2, -3, 5]);
  assert.deepEqual(extent([line, new Float32Array([9])]), [-3, 9]);
  assert.equal(span(line), 8);
  assert.equal(mostOf(line, 7), 7);
  assert.equal(secondsWords(7.25), "7.3 s");
  assert.equal(secondsWords(125), "2:05");
});

test("a shader without stages changes nothing; with them, in the order of the light", () => {
  for (const shader of [PLAIN, PARTIAL, CHANGED]) {
    assert.ok(withStages(shader, []).includes("return seen;"));
    const worked = withStages(shader, [
      { name: "later", end: "output", shader: "vec3 later(vec3 l, vec2 p) { return l; }" },
      { name: "first", end: "source", shader: "vec3 first(vec3 l, vec2 p) { return l; }" },
    ]);
    assert.ok(worked.indexOf("first(light, at)") < worked.indexOf("later(light, into)"));
    assert.ok(worked.indexOf("first(light, at)") > 0);
    assert.ok(!worked.includes("//stages"));
  }
});

test("a preference is kept; one that cannot be read counts as none", () => {
  prefer("width", 320);
  prefer("marks", true);
  assert.equal(preference("width", 1), 320);
  assert.equal(preference("width", "wide"), "wide", "of another kind than it should be");
  assert.equal(preference("grid", false), false);
  for (const damaged of ["{", "[1]", "7", "null"]) {
    kept.set("keen-view", damaged);
    assert.equal(preference("width", 1), 1);
  }
});

const running = { id: 4, open: true, state: "running", kind: "cost", done: 1, total: 9 };

test("work is told in words", () => {
  assert.equal(jobWords({ ...running, seconds_left: 12.2 }), "point 1 of 9, 12 s left");
  assert.equal(jobWords({ ...running, kind: "solve" }), "frame 1 of 9");
  assert.equal(jobWords({ ...running, state: "queued" }), "waiting");
  assert.equal(timeLeft(1), "a second left");
  assert.equal(timeLeft(300), "5 min left");
  assert.equal(gaveUp({ open: false, state: "failed" }), true);
  assert.equal(gaveUp({ open: false, state: "done" }), false);
  assert.equal(gaveUp(null), false);
});

test("an answer is waited for, told of, and asked for again", async () => {
  const told = /** @type {unknown[]} */ ([]);
  const looks = [{ work: running }, { work: null, value: 42 }];
  answers.push({ ...running, open: false, state: "done" });
  const answer = await settled(async () => looks.shift(), {
    work: (/** @type {any} */ one) => one.work,
    tell: (/** @type {any} */ job) => told.push(job.done),
  });
  assert.equal(answer.value, 42);
  assert.deepEqual(told, [1]);
  assert.deepEqual(asked, ["/work/4"]);
});

test("work that failed is an error in its own words; nobody waiting ends it", async () => {
  const failed = { ...running, open: false, state: "failed", title: "Solving", message: "" };
  const wanted = () => true;
  await assert.rejects(finished({ ...failed, message: "Disk full." }, undefined, wanted, ""), {
    message: "Disk full.",
  });
  await assert.rejects(finished(failed, undefined, wanted, "No lens."), { message: "No lens." });
  const unwanted = { work: () => running, wanted: () => false };
  assert.equal(await settled(async () => ({}), unwanted), null);
});

test("a folder is sent with the footage in it, however deep, and nothing else", async () => {
  /** @param {string} name */
  const file = (name) => ({
    isFile: true,
    isDirectory: false,
    name,
    /** @param {(file: File) => void} then */
    file: (then) => then(/** @type {File} */ (/** @type {unknown} */ ({ name }))),
  });
  /**
   * @param {string} name
   * @param {any[][]} portions
   */
  const folder = (name, portions) => ({
    isFile: false,
    isDirectory: true,
    name,
    createReader() {
      const rest = [...portions, []];
      return {
        /** @param {(found: any[]) => void} then */
        readEntries: (then) => then(/** @type {any[]} */ (rest.shift())),
      };
    },
  });
  const card = folder("card", [
    [file("b.MP4"), file("a.mts"), file("thumb.jpg")],
    [folder("more", [[file("c.mov"), file("index.bdm")]])],
    [folder("empty", [])],
  ]);
  const found = await footageIn([card, file("no suffix at all")]);
  assert.deepEqual(
    found.map((/** @type {File} */ one) => one.name),
    ["a.mts", "b.MP4", "c.mov", "no suffix at all"],
  );
});
