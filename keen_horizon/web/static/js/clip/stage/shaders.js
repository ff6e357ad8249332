// What the graphics library is told about drawing a picture through a lattice. What a station does
// to pixels comes from the server, as the same rule that the export follows; it is put in here.

export const VERTEX = `
attribute vec2 place;   // share of the output picture
attribute vec2 source;  // share of the source picture
attribute vec2 earlier; // and of the picture before it
uniform vec4 box;       // left, top, width, height in shares of the canvas
varying highp vec2 at;
varying highp vec2 was;
varying highp vec2 into;
varying highp vec2 along; // the source, beyond its sides where the picture goes around
void main() {
  at = source;
  along = source;
  was = earlier;
  into = place;
  vec2 p = box.xy + place * box.zw;
  gl_Position = vec4(p.x * 2.0 - 1.0, 1.0 - p.y * 2.0, 0.0, 1.0);
}`;

// A picture drawn whole and without a bare edge needs nothing but itself.
export const PLAIN = `
precision highp float;
uniform sampler2D picture;
varying vec2 at;
varying vec2 into;
//stages
void main() {
  gl_FragColor = vec4(shown(picture, at), 1.0);
}`;

// One that is cut by the dividing line, leaves edges bare, or shows dead corners.
export const PARTIAL = `
precision highp float;
uniform sampler2D picture;
uniform vec4 cut;       // normal x, y and offset of a dividing line in canvas pixels; side (0: none)
uniform float hatch;
uniform float dead;     // whether what is in dead corners is hatched
uniform float height;
varying vec2 at;
varying vec2 into;
//stages
//corners
void main() {
  vec2 pixel = vec2(gl_FragCoord.x, height - gl_FragCoord.y);
  if (cut.w != 0.0 && (dot(pixel, cut.xy) - cut.z) * cut.w < 0.0) discard;
  float stripe = step(0.5, fract((pixel.x + pixel.y) / 11.0));
  vec3 striped = mix(vec3(0.13, 0.19, 0.22), vec3(0.78, 0.27, 0.18), stripe);
  if (at.x < 0.0 || at.y < 0.0 || at.x > 1.0 || at.y > 1.0) {
    gl_FragColor = vec4(mix(vec3(0.0), striped, hatch), 1.0);
    return;
  }
  vec3 seen = shown(picture, at);
  gl_FragColor = vec4(mix(seen, striped, dead > 0.5 && cornered(at) ? 0.5 : 0.0), 1.0);
}`;

/**
 * The rule by which a place is in a dead corner: beyond any side of what is left of the picture.
 * @param {number[][]} sides
 */
export function cornerRule(sides) {
  const beyond = sides.map((side) => {
    const [a, b, c] = side.map((value) => value.toFixed(6));
    return `dot(at, vec2(${a}, ${b})) > ${c}`;
  });
  return `bool cornered(vec2 at) { return ${beyond.join(" || ") || "false"}; }`;
}

// What has changed since the frame before: still parts are dark.
export const CHANGED = `
precision highp float;
uniform sampler2D picture;
uniform sampler2D before;
varying vec2 at;
varying vec2 was;
varying vec2 into;
//stages
void main() {
  vec2 low = min(at, was);
  vec2 high = max(at, was);
  if (low.x < 0.0 || low.y < 0.0 || high.x > 1.0 || high.y > 1.0) discard;
  vec3 change = shown(picture, at) - shown(before, was);
  float much = dot(abs(change), vec3(0.3333));
  gl_FragColor = vec4(vec3(min(1.0, 4.0 * much)), 1.0);
}`;

// Of a picture out of a sphere a pixel is told by its ray where it comes from.
const AROUND = `
uniform mat3 turn;      // rays of the picture to those of the recorded sphere
uniform mat3 spread;    // and by how much stitching bends that
uniform mat3 twist;
uniform mat3 halves;
uniform mat3 turn_was;  // and in the frame before
uniform mat3 spread_was;
uniform mat3 twist_was;
uniform mat3 halves_was;
uniform vec4 optics;    // the projection; how far it reaches across and down; 0, if nothing bends, or
                        // where halves of the sphere blend
uniform vec4 eye;       // of the film's picture: left, top, width, height
vec2 at;
vec2 was;
vec2 placed(mat3 turned, mat3 spreads, mat3 twists, mat3 apart, vec2 into) {
  vec2 p = (into - 0.5) * optics.yz;
  vec3 ray = vec3(p, 1.0);
  if (optics.x > 2.5) ray = vec3(sin(p.x), p.y, cos(p.x));
  else if (optics.x > 1.5) ray = vec3(2.0 * p, 1.0 - dot(p, p));
  else if (optics.x < 0.5) ray = vec3(sin(p.x) * cos(p.y), sin(p.y), cos(p.x) * cos(p.y));
  ray = turned * ray;
  if (optics.w > 0.0) {
    ray = normalize(ray);
    vec3 spread_by = spreads * ray;
    float share = clamp(-ray.z / optics.w, -1.0, 1.0);
    float half_way = 0.5 * share * (3.0 - share * share);
    ray += spread_by - dot(spread_by, ray) * ray + cross(ray, twists * ray) + half_way * (apart * ray);
  }
  vec2 angles = vec2(atan(ray.x, ray.z), atan(ray.y, length(ray.xz)));
  return eye.xy + eye.zw * (angles / vec2(6.2831853, 3.1415927) + 0.5);
}`;

/**
 * A shader for pictures out of spheres.
 * @param {string} shader
 */
export function fromSphere(shader) {
  // What only a comparison looks at is worked out for it alone.
  const both = shader.includes("varying vec2 was;");
  const was = both ? "\n  was = placed(turn_was, spread_was, twist_was, halves_was, into);" : "";
  return shader
    .replace("varying vec2 at;", AROUND)
    .replace("varying vec2 was;", "")
    .replace(
      "void main() {",
      `void main() {\n  at = placed(turn, spread, twist, halves, into);${was}`,
    );
}

// Most of them come from between nodes whose places are known; over the seam, these go on beyond it.
const WOVEN = `
uniform vec4 eye;       // of the film's picture: left, top, width, height
varying vec2 along;
vec2 at;`;

/**
 * A shader for pictures out of spheres that are woven of nodes and go over the seam.
 * @param {string} shader
 */
export const overSeam = (shader) =>
  shader
    .replace("varying vec2 at;", WOVEN)
    .replace(
      "void main() {",
      "void main() {\n  at = eye.xy + eye.zw * vec2(fract(along.x), along.y);",
    );

const TOGETHER = "vec3 sampled(sampler2D from, vec2 at) { return texture2D(from, at).rgb; }";
// As the browser shows video: by the curve of sRGB (IEC 61966-2-1).
const LINEAR = `
vec3 to_linear(vec3 seen) {
  return mix(seen / 12.92, pow((seen + 0.055) / 1.055, vec3(2.4)), step(0.04045, seen));
}
vec3 from_linear(vec3 light) {
  vec3 kept = clamp(light, 0.0, 1.0);
  return mix(12.92 * kept, 1.055 * pow(kept, vec3(1.0 / 2.4)) - 0.055, step(0.0031308, kept));
}`;

/**
 * A shader with what is done to pixels: each colour sampled at its own place; at the source's end by
 * the place in the source, at the output's end by the place in the output.
 * @param {string} shader
 * @param {PixelStage[]} stages
 */
export function withStages(shader, stages) {
  const rules = stages.map((stage) => stage.shader);
  const parts = [...rules, sampling(stages), working(stages), detailing(stages)];
  return shader.replace("//stages", parts.join("\n"));
}

/** @param {PixelStage[]} stages */
function sampling(stages) {
  const places = stages.filter(({ end }) => end === "colours").map(({ name }) => name);
  if (!places.length) return TOGETHER;
  /** @param {number} colour */
  const place = (colour) => places.reduce((at, name) => `${name}(${at}, ${colour}.0)`, "at");
  return `vec3 sampled(sampler2D from, vec2 at) {
  vec3 seen = texture2D(from, at).rgb;
  return vec3(texture2D(from, ${place(0)}).r, seen.g, texture2D(from, ${place(1)}).b);
}`;
}

/**
 * What is seen at a place, as the recorded picture has become.
 * @param {PixelStage[]} stages
 */
function seenBy(stages) {
  const calls = stages
    .filter(({ end }) => end === "recorded")
    .map(({ name }) => `  seen = ${name}(seen, from, at);\n`);
  return `vec3 seen_at(sampler2D from, vec2 at) {
  vec3 seen = sampled(from, at);
${calls.join("")}  return seen;
}`;
}

/** @param {PixelStage[]} stages */
function working(stages) {
  const ordered = ["source", "output"].flatMap((end) => stages.filter((one) => one.end === end));
  /** @param {boolean} coded @param {string} name of the variable */
  const calls = (coded, name) =>
    ordered
      .filter((stage) => Boolean(stage.coded) === coded)
      .map((one) => `  ${name} = ${one.name}(${name}, ${one.end === "source" ? "at" : "into"});`);
  const light = calls(false, "light");
  const through = ["  vec3 light = to_linear(seen);", ...light, "  seen = from_linear(light);"];
  const body = [...calls(true, "seen"), ...(light.length ? through : [])].join("\n");
  return `${light.length ? LINEAR : ""}
vec3 worked(vec3 seen, vec2 at) {
${body}
  return seen;
}`;
}

/**
 * A pixel as it is shown, with what becomes of its luma by those about it. Blur is that of a
 * Gaussian, of its four neighbours; what is gained by luma is gained by all colours.
 * @param {PixelStage[]} stages
 */
function detailing(stages) {
  const details = stages.filter(({ end }) => end === "detail");
  if (!details.length) {
    return `${seenBy(stages)}
vec3 shown(sampler2D from, vec2 at) { return worked(seen_at(from, at), at); }`;
  }
  const calls = details.map(
    ({ name, reach }) => `
  float side_${name} = exp(-0.5 / pow(${reach.toFixed(3)} * texel.z, 2.0));
  float own_${name} = 1.0 / pow(1.0 + 2.0 * side_${name}, 2.0);
  luma = ${name}(luma, (1.0 - own_${name}) * (here - around), low, high);`,
  );
  return `${seenBy(stages)}
uniform vec3 texel; // a pixel of the picture, shares; and how many a source pixel takes
float brightness(vec3 seen) { return dot(seen, vec3(0.2126, 0.7152, 0.0722)); }
float bright(sampler2D from, vec2 at) { return brightness(worked(sampled(from, at), at)); }
vec3 shown(sampler2D from, vec2 at) {
  vec3 seen = worked(seen_at(from, at), at);
  float here = brightness(seen);
  float luma = here;
  vec4 near = vec4(
    bright(from, at + vec2(texel.x, 0.0)), bright(from, at - vec2(texel.x, 0.0)),
    bright(from, at + vec2(0.0, texel.y)), bright(from, at - vec2(0.0, texel.y)));
  float around = dot(near, vec4(0.25));
  float low = min(here, min(min(near.x, near.y), min(near.z, near.w)));
  float high = max(here, max(max(near.x, near.y), max(near.z, near.w)));
${calls.join("")}
  return clamp(seen + luma - here, 0.0, 1.0);
}`;
}
