// The decoded picture as a texture, the quickest way this browser has. Without a graphics card,
// WebCodecs' own conversion is more than twice as fast as handing over the video element.

// With these transfer functions the numbers may be shown as they are; the rest is for the browser.
const PLAIN_TRANSFERS = [null, undefined, "bt709", "smpte170m", "iec61966-2-1"];

/**
 * A texture that ends at its edges, bound where others are made.
 * @param {WebGLRenderingContext} gl
 * @param {number} [magnified] how its pixels are drawn larger
 */
export function newTexture(gl, magnified = gl.LINEAR) {
  const texture = gl.createTexture();
  gl.bindTexture(gl.TEXTURE_2D, texture);
  gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_MIN_FILTER, gl.LINEAR);
  gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_MAG_FILTER, magnified);
  gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_WRAP_S, gl.CLAMP_TO_EDGE);
  gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_WRAP_T, gl.CLAMP_TO_EDGE);
  return texture;
}

export class PictureTexture {
  /**
   * @param {WebGLRenderingContext} gl
   * @param {HTMLVideoElement} video
   */
  constructor(gl, video) {
    this.gl = gl;
    this.video = video;
    this.converts = typeof VideoFrame !== "undefined";
    this.taken = 0;
    this.width = 0;
    this.height = 0;
    this.bytes = new Uint8Array(0);
    // The picture on show, and the one before it.
    this.pair = [newTexture(gl), newTexture(gl)].map((texture) => ({
      texture,
      frame: /** @type {number | null} */ (null),
    }));
    this.bind();
  }

  bind() {
    const { gl } = this;
    gl.activeTexture(gl.TEXTURE1);
    gl.bindTexture(gl.TEXTURE_2D, this.pair[1].texture);
    gl.activeTexture(gl.TEXTURE0);
    gl.bindTexture(gl.TEXTURE_2D, this.pair[0].texture);
  }

  /**
   * Whether the picture before is that of the frame before.
   * @param {number} frame
   */
  follows(frame) {
    return this.pair[0].frame === frame && this.pair[1].frame === frame - 1;
  }

  /**
   * Take the picture on show in the video; resolves to false if a newer one was taken meanwhile.
   * @param {number} frame
   */
  async take(frame) {
    const mine = ++this.taken;
    const { gl } = this;
    const converted = this.converts && (await this.convert());
    if (converted && mine !== this.taken) return false;
    if (this.pair[0].frame !== frame) this.pair.reverse();
    this.bind();
    this.pair[0].frame = frame;
    const { width, height, bytes } = this;
    const kind = gl.UNSIGNED_BYTE;
    if (converted) {
      gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, width, height, 0, gl.RGBA, kind, bytes);
    } else gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, gl.RGBA, kind, this.video);
    return true;
  }

  /** Red, green, blue and alpha of the picture in this.bytes; false if that cannot be had. */
  async convert() {
    let frame = null;
    try {
      frame = new VideoFrame(this.video);
      const { width, height } = frame.visibleRect ?? { width: 0, height: 0 };
      const wanted = /** @type {VideoFrameCopyToOptions} */ ({
        format: "RGBA",
        colorSpace: "srgb",
      });
      const plain = PLAIN_TRANSFERS.includes(frame.colorSpace.transfer);
      if (!plain || frame.allocationSize(wanted) !== 4 * width * height) {
        this.converts = false;
        return false;
      }
      if (this.width !== width || this.height !== height) {
        [this.width, this.height] = [width, height];
        this.bytes = new Uint8Array(4 * width * height);
      }
      await frame.copyTo(this.bytes, wanted);
      return true;
    } catch {
      this.converts = false;
      return false;
    } finally {
      if (frame) frame.close();
    }
  }
}
