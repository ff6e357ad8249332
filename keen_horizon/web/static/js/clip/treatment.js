// Values and keyframes of a treatment: what is read and changed of it, without a page around.

/**
 * The keyframes of a setting, by rising frame.
 * @param {Treatment} treatment
 * @param {string} name
 * @returns {Key[]}
 */
export const keysOf = (treatment, name) => treatment.keys[name] ?? [];

/**
 * The value of a setting, its keyframes apart.
 * @param {Treatment} treatment
 * @param {string} name
 */
export function valueOf(treatment, name) {
  const [station, key] = name.split(".");
  return treatment[station]?.[key];
}

/**
 * @param {Treatment} treatment
 * @param {string} name
 * @param {unknown} value
 */
export function setValue(treatment, name, value) {
  const [station, key] = name.split(".");
  treatment[station][key] = value;
}

/**
 * Let a setting have a value at a frame; how it goes on from there stays as it was.
 * @param {Treatment} treatment
 * @param {string} name
 * @param {number} frame of the recording
 * @param {number} value
 * @param {boolean} [smooth]
 */
export function putKey(treatment, name, frame, value, smooth) {
  const old = keysOf(treatment, name);
  const before = old.find((key) => key.frame === frame);
  const key = { frame, value, smooth: smooth ?? before?.smooth ?? true };
  treatment.keys[name] = [...old.filter((one) => one.frame !== frame), key].sort(byFrame);
}

/**
 * @param {{ frame: number }} a
 * @param {{ frame: number }} b
 */
const byFrame = (a, b) => a.frame - b.frame;

/**
 * Take a keyframe away; the last one leaves its value behind.
 * @param {Treatment} treatment
 * @param {string} name
 * @param {number} frame
 */
export function dropKey(treatment, name, frame) {
  const old = keysOf(treatment, name);
  const rest = old.filter((key) => key.frame !== frame);
  if (rest.length === old.length) return;
  if (rest.length) treatment.keys[name] = rest;
  else {
    setValue(treatment, name, old[0].value);
    delete treatment.keys[name];
  }
}

/**
 * The settings that have a keyframe at a frame.
 * @param {Treatment} treatment
 * @param {number} frame
 */
export const namesAt = (treatment, frame) =>
  Object.keys(treatment.keys).filter((name) =>
    keysOf(treatment, name).some((key) => key.frame === frame),
  );

/**
 * All keyframes of a frame move to another; what is there of the same setting gives way.
 * @param {Treatment} treatment
 * @param {number} from
 * @param {number} to
 */
export function moveKeys(treatment, from, to) {
  if (from === to) return;
  for (const name of namesAt(treatment, from)) {
    const moved = keysOf(treatment, name).filter((key) => key.frame !== to);
    treatment.keys[name] = moved
      .map((key) => (key.frame === from ? { ...key, frame: to } : key))
      .sort(byFrame);
  }
}

/**
 * The frames that have keyframes, rising.
 * @param {Treatment} treatment
 */
export function keyFrames(treatment) {
  const frames = Object.values(treatment.keys).flatMap((keys) => keys.map((key) => key.frame));
  return [...new Set(frames)].sort((a, b) => a - b);
}

/**
 * The frame with keyframes next to one, before it or after it; undefined if there is none.
 * @param {Treatment} treatment
 * @param {number} frame
 * @param {number} way below 0: before
 */
export function nextKeyFrame(treatment, frame, way) {
  const frames = keyFrames(treatment);
  return way > 0 ? frames.find((one) => one > frame) : frames.reverse().find((one) => one < frame);
}

/**
 * Settings that are found together are replaced together: none of their keyframes stays to override
 * what was found.
 * @param {Treatment} treatment
 * @param {Record<string, Setting>} settings all that are declared
 * @param {string} station
 * @param {Record<string, unknown>} values by the settings' own names
 */
export function replaceGroup(treatment, settings, station, values) {
  const groups = new Set(
    Object.keys(values)
      .map((key) => settings[`${station}.${key}`]?.group)
      .filter(Boolean),
  );
  for (const [name, setting] of Object.entries(settings)) {
    if (name.startsWith(`${station}.`) && groups.has(setting.group)) delete treatment.keys[name];
  }
  Object.assign(treatment[station], values);
}

/**
 * The default values of a station's settings of one group.
 * @param {Record<string, Setting>} settings
 * @param {string} station
 * @param {string} group
 */
export function defaultsOf(settings, station, group) {
  return Object.fromEntries(
    Object.entries(settings)
      .filter(([name, setting]) => name.startsWith(`${station}.`) && setting.group === group)
      .map(([name, setting]) => [name.split(".")[1], setting.default]),
  );
}

/**
 * Whether a setting makes a difference, the others being what they are: as the declarations say.
 * @param {Treatment} treatment
 * @param {Setting} setting
 * @param {string} station
 */
export const hasEffect = (treatment, setting, station) =>
  !setting.needs.length ||
  setting.needs.some((needed) =>
    Object.entries(needed).every(([other, values]) => values.includes(treatment[station][other])),
  );

/**
 * Values of a setting at frames, from one line a frame; NaN for a frame outside has the nearest.
 * @param {Float32Array} line
 * @param {number} at frame of the range
 */
export const alongLine = (line, at) => line[Math.max(0, Math.min(line.length - 1, at))];

/**
 * A value as it is shown: to a tenth of the step it is set in, and to three places at least.
 * @param {number} value
 * @param {number} step
 */
export function rounded(value, step) {
  const places = Math.max(3, 1 - Math.floor(Math.log10(step)));
  return Number(value.toFixed(places));
}
