// Waiting for what a worker does in the background: the one helper for it, and words about it.
import { get } from "./api.js";

const EVERY = 400; // ms between questions

/** @param {number} ms */
export const pause = (ms) =>
  new Promise((done) => {
    setTimeout(done, ms);
  });

/**
 * The answer, once no worker is at it any more. `ask` is asked again when its work is done; `tell`
 * hears how far that is; the wait ends with null as soon as nobody wants it.
 * Throws an Error with the work's own words if it failed or was cancelled.
 * @template A
 * @param {() => Promise<A>} ask
 * @param {object} options
 * @param {(answer: A) => Job | null | undefined} options.work what of an answer is still under way
 * @param {(job: Job) => void} [options.tell]
 * @param {() => boolean} [options.wanted]
 * @param {string} [options.failed] what to say where the work has no words
 * @param {number} [options.every] ms between questions
 * @returns {Promise<A | null>}
 */
export async function settled(
  ask,
  { work, tell, wanted = () => true, failed = "", every = EVERY },
) {
  for (;;) {
    const answer = await ask();
    if (!wanted()) return null;
    const job = work(answer);
    if (!job) return answer;
    if (!(await finished(job, tell, wanted, failed, every))) return null;
  }
}

/**
 * Whether a piece of work has come to its end, before nobody wanted it any more.
 * @param {Job} job
 * @param {((job: Job) => void) | undefined} tell
 * @param {() => boolean} wanted
 * @param {string} failed
 * @param {number} [every] ms between questions
 */
export async function finished(job, tell, wanted, failed, every = EVERY) {
  let now = job;
  while (now.open) {
    tell?.(now);
    await pause(every);
    if (!wanted()) return false;
    now = await get(`/work/${job.id}`);
  }
  if (gaveUp(now)) throw new Error(now.message || failed || `${now.title}: it was cancelled.`);
  return wanted();
}

/**
 * Whether work failed or was cancelled: nobody will finish it unless it is asked for again.
 * @param {Job | null | undefined} job
 */
export const gaveUp = (job) => Boolean(job && !job.open && job.state !== "done");

/** @param {number | null | undefined} seconds */
export function timeLeft(seconds) {
  if (seconds === null || seconds === undefined) return "";
  if (seconds < 1.5) return "a second left";
  if (seconds < 90) return `${Math.round(seconds)} s left`;
  return `${Math.round(seconds / 60)} min left`;
}

/** @type {Record<string, string>} */
const STATES = {
  queued: "waiting",
  running: "starting",
  stopping: "stopping …",
  done: "done",
  failed: "failed",
  cancelled: "cancelled",
};

/** @param {Job} job */
export function jobWords(job) {
  if (job.state !== "running" || !job.total) return STATES[job.state];
  if (job.ending) return "almost done";
  const unit = { cost: "point", chart: "picture", take: "step" }[job.kind] || "frame";
  return [`${unit} ${job.done} of ${job.total}`, timeLeft(job.seconds_left)]
    .filter(Boolean)
    .join(", ");
}
