// What the graphics library is told about drawing a picture through a lattice.

export const VERTEX = `
attribute vec2 place;   // share of the output picture
attribute vec2 source;  // share of the source picture
uniform vec4 box;       // left, top, width, height in shares of the canvas
attribute vec2 earlier; // and of the picture before it
varying highp vec2 at;
varying highp vec2 was;
void main() {
  at = source;
  was = earlier;
  vec2 p = box.xy + place * box.zw;
  gl_Position = vec4(p.x * 2.0 - 1.0, 1.0 - p.y * 2.0, 0.0, 1.0);
}`;

// A picture drawn whole and without a bare edge needs nothing but itself.
export const PLAIN = `
precision mediump float;
uniform sampler2D picture;
varying highp vec2 at;
void main() {
  gl_FragColor = texture2D(picture, at);
}`;

// One that is cut by the dividing line, or leaves edges bare.
export const PARTIAL = `
precision highp float;
uniform sampler2D picture;
uniform vec4 cut;       // normal x, y and offset of a dividing line in canvas pixels; side (0: none)
uniform float hatch;
uniform float height;
varying vec2 at;
void main() {
  vec2 pixel = vec2(gl_FragCoord.x, height - gl_FragCoord.y);
  if (cut.w != 0.0 && (dot(pixel, cut.xy) - cut.z) * cut.w < 0.0) discard;
  if (at.x < 0.0 || at.y < 0.0 || at.x > 1.0 || at.y > 1.0) {
    float stripe = step(0.5, fract((pixel.x + pixel.y) / 11.0));
    gl_FragColor = vec4(mix(vec3(0.0), mix(vec3(0.13, 0.19, 0.22), vec3(0.78, 0.27, 0.18), stripe), hatch), 1.0);
    return;
  }
  gl_FragColor = texture2D(picture, at);
}`;

// What has changed since the frame before: still parts are dark.
export const CHANGED = `
precision highp float;
uniform sampler2D picture;
uniform sampler2D before;
varying vec2 at;
varying vec2 was;
void main() {
  vec2 low = min(at, was);
  vec2 high = max(at, was);
  if (low.x < 0.0 || low.y < 0.0 || high.x > 1.0 || high.y > 1.0) discard;
  vec3 change = texture2D(picture, at).rgb - texture2D(before, was).rgb;
  float much = dot(abs(change), vec3(0.3333));
  gl_FragColor = vec4(vec3(min(1.0, 4.0 * much)), 1.0);
}`;
