// Talking to the server: JSON in and out, errors as sentences.

const token = document.querySelector('meta[name="csrf-token"]').content;
export const headers = { Accept: "application/json", "X-CSRFToken": token };

export async function call(method, address, body) {
  const options = { method, headers: { ...headers } };
  if (body !== undefined) {
    options.headers["Content-Type"] = "application/json";
    options.body = JSON.stringify(body);
  }
  let answer;
  try {
    answer = await fetch(address, options);
  } catch {
    throw new Error("The application does not answer. Is it still running?");
  }
  const data = await answer.json().catch(() => ({}));
  if (!answer.ok) throw new Error(data.error || `That did not work (${answer.status}).`);
  return data;
}

export const get = (address) => call("GET", address);
export const post = (address, body = {}) => call("POST", address, body);

// Arrays travel as base64 of their bytes.
export function unpack(text, Kind = Float32Array) {
  const raw = atob(text);
  const bytes = new Uint8Array(raw.length);
  for (let i = 0; i < raw.length; i++) bytes[i] = raw.charCodeAt(i);
  return new Kind(bytes.buffer);
}

export function timeLeft(seconds) {
  if (seconds === null || seconds === undefined) return "";
  if (seconds < 1.5) return "a second left";
  if (seconds < 90) return `${Math.round(seconds)} s left`;
  return `${Math.round(seconds / 60)} min left`;
}

// Work that failed or was cancelled: nobody will finish it unless it is asked for again.
export function gaveUp(job) {
  return Boolean(job && !job.open && job.state !== "done");
}

export function jobWords(job) {
  if (job.state === "running" && job.total) {
    return [`${job.kind === "cost" ? "point" : "frame"} ${job.done} of ${job.total}`, timeLeft(job.seconds_left)].filter(Boolean).join(", ");
  }
  return { queued: "waiting", running: "starting", done: "done", failed: "failed", cancelled: "cancelled" }[job.state];
}
