// The declared settings, as the page was given them.

/** @type {Record<string, Setting>} by their name in a treatment */
export const settings = JSON.parse(document.getElementById("settings")?.textContent || "{}");

/** @type {Record<string, any>} their default values, by station, as a treatment has them */
export const defaults = { keys: {} };
for (const [name, setting] of Object.entries(settings)) {
  const [station, key] = name.split(".");
  (defaults[station] ??= {})[key] = setting.default;
}
