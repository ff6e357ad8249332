// Sending a file, with its progress.
import { headers } from "../lib/api.js";

/**
 * @typedef {object} Upload
 * @property {string} key
 * @property {number} shoot
 * @property {string} name
 * @property {number} size bytes
 * @property {number} sent bytes
 * @property {string} words
 * @property {string} problem
 * @property {() => void} stop
 */

/**
 * The clip that a file became; null if it was refused, which `up` then tells, or stopped.
 * @param {File} file
 * @param {Upload} up
 * @param {number} limit bytes
 * @returns {Promise<number | null>}
 */
export function upload(file, up, limit) {
  /** @param {string} words */
  const refuse = (words) => {
    up.problem = words;
    up.words = "refused";
    return null;
  };
  if (file.size > limit) {
    const most = (limit / 1e9).toPrecision(3);
    const words = `${file.name}: the file is larger than the limit of ${most} GB.`;
    return Promise.resolve(refuse(`${words} Cut out the part you need first.`));
  }
  return new Promise((finish) => {
    const request = new XMLHttpRequest();
    up.stop = () => request.abort();
    request.open("POST", `/shoots/${up.shoot}/recordings?name=${encodeURIComponent(file.name)}`);
    for (const [name, value] of Object.entries(headers)) request.setRequestHeader(name, value);
    request.setRequestHeader("Content-Type", "application/octet-stream");
    request.responseType = "json";
    request.upload.onprogress = (event) => {
      up.sent = event.loaded;
      up.words = `${Math.floor((100 * event.loaded) / Math.max(1, file.size))} %`;
    };
    request.onload = () => {
      if (request.status === 200) finish(request.response.clip);
      else finish(refuse(request.response?.error || "The upload was refused."));
    };
    request.onerror = () => {
      finish(refuse(`${file.name}: the upload broke off. Drop the file again.`));
    };
    request.onabort = () => finish(null);
    request.send(file);
  });
}
