// Talking to the server: JSON in and out, errors as sentences.

const token = /** @type {HTMLMetaElement} */ (document.querySelector('meta[name="csrf-token"]'))
  .content;
// Told with every request, so that two pages do not stop each other's work.
const page = Math.random().toString(36).slice(2, 10);
/** @type {Record<string, string>} */
export const headers = { Accept: "application/json", "X-CSRFToken": token, "X-Page": page };

/**
 * What a request answers. Throws an Error with a sentence for people.
 * @param {string} address
 * @param {RequestInit} options
 */
async function asked(address, options) {
  let answer;
  try {
    answer = await fetch(address, options);
  } catch {
    throw new Error("The application does not answer. Is it still running?");
  }
  const data = await answer.json().catch(() => ({}));
  if (!answer.ok) {
    const words = data.error || `That did not work (${answer.status}).`;
    throw Object.assign(new Error(words), { status: answer.status });
  }
  return data;
}

/**
 * @param {string} method
 * @param {string} address
 * @param {unknown} [body]
 */
export function call(method, address, body) {
  if (body === undefined) return asked(address, { method, headers });
  return asked(address, {
    method,
    headers: { ...headers, "Content-Type": "application/json" },
    body: JSON.stringify(body),
  });
}

/** @param {string} address */
export const get = (address) => call("GET", address);
/**
 * @param {string} address
 * @param {unknown} [body]
 */
export const post = (address, body = {}) => call("POST", address, body);

/**
 * A file as the body of a request, its name beside it.
 * @param {string} address
 * @param {File} file
 */
export function send(address, file) {
  return asked(`${address}?name=${encodeURIComponent(file.name)}`, {
    method: "POST",
    headers: { ...headers, "Content-Type": "application/octet-stream" },
    body: file,
  });
}

/**
 * Small pictures as the body of a request, four bytes a pixel, and a band of their rows.
 * @param {string} address
 * @param {{ width: number, height: number, bytes: Uint8Array<ArrayBuffer> }} pictures
 * @param {Record<string, number>} about what is asked of them
 */
export function sendPixels(address, { width, height, bytes }, about) {
  const numbers = Object.entries({ width, height, ...about });
  const query = numbers.map(([name, value]) => `${name}=${Number(value.toFixed(4))}`).join("&");
  return asked(`${address}?${query}`, {
    method: "POST",
    headers: { ...headers, "Content-Type": "application/octet-stream" },
    body: bytes,
  });
}

/**
 * Bytes of an array, which travels as base64.
 * @param {string} text
 */
export function bytesOf(text) {
  const raw = atob(text);
  const bytes = new Uint8Array(raw.length);
  for (let i = 0; i < raw.length; i++) bytes[i] = raw.charCodeAt(i);
  return bytes.buffer;
}

/** @param {string} text */
export const unpack = (text) => new Float32Array(bytesOf(text));
/** @param {string} text */
export const unpackTimes = (text) => new Float64Array(bytesOf(text));
/** @param {string} text */
export const unpackNumbers = (text) => new Int32Array(bytesOf(text));
