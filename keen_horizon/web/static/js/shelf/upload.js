// Sending a file, with its progress: in pieces by the tus protocol, so that a connection that breaks,
// or a page that is closed, loses nothing but time.
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
 * @property {boolean} paused
 * @property {() => void} stop
 * @property {() => void} pause and go on
 */

const AGAIN = [0, 500, 1000, 2000, 4000, 8000, 8000, 8000, 15000, 30000, 60000]; // ms
const REFUSED = 400; // from here on answers are refusals,
const OURS = 500; // and from here on they are about us
const GO_ON = [409, 423, 503]; // but for those that another try may mend

/**
 * What the server said, if it refused the file.
 * @param {any} error
 */
function refusal(error) {
  const answer = error?.originalResponse;
  const status = answer?.getStatus() ?? 0;
  if (status < REFUSED || status >= OURS || GO_ON.includes(status)) return "";
  try {
    return JSON.parse(answer.getBody()).error;
  } catch {
    return "The upload was refused.";
  }
}

/**
 * The clip that a file became; null if it was refused, which `up` then tells, or stopped.
 * @param {File} file
 * @param {Upload} up
 * @param {number} limit bytes
 * @returns {Promise<number | null>}
 */
export async function upload(file, up, limit) {
  /** @param {string} words */
  const refuse = (words) => {
    up.problem = words;
    up.words = "refused";
    return null;
  };
  if (file.size > limit) {
    const most = (limit / 1e9).toPrecision(3);
    const words = `${file.name}: the file is larger than the limit of ${most} GB.`;
    return refuse(`${words} Cut out the part you need first.`);
  }
  if (!file.size) return refuse(`${file.name}: the file is empty. Copy it again.`);
  const share = () => `${Math.floor((100 * up.sent) / Math.max(1, file.size))} %`;
  /** @type {(clip: number | null) => void} */
  let finish = () => {};
  /** @type {Promise<number | null>} */
  const became = new Promise((told) => {
    finish = told;
  });
  const sending = new window.tus.Upload(file, {
    endpoint: `/shoots/${up.shoot}/uploads`,
    headers,
    metadata: { filename: file.name },
    retryDelays: AGAIN,
    removeFingerprintOnSuccess: true,
    onProgress(/** @type {number} */ sent) {
      up.sent = sent;
      up.words = share();
    },
    onShouldRetry(/** @type {any} */ error) {
      if (refusal(error)) return false;
      up.words = `${share()} · waiting for the connection`;
      return true;
    },
    onSuccess({ lastResponse }) {
      finish(Number(lastResponse.getHeader("X-Clip")) || null);
    },
    onError(/** @type {any} */ error) {
      const words = refusal(error);
      finish(refuse(words || `${file.name}: the upload broke off. Drop the file again to go on.`));
    },
  });
  up.stop = () => {
    sending.abort(true).catch(() => {}); // what has come already is forgotten in a day anyway
    finish(null);
  };
  up.pause = () => {
    up.paused = !up.paused;
    if (up.paused) sending.abort();
    else sending.start();
    up.words = up.paused ? `${share()} · paused` : share();
  };
  const [earlier] = await sending.findPreviousUploads();
  if (earlier) sending.resumeFromPreviousUpload(earlier);
  sending.start();
  return became;
}
