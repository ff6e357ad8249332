// The decoded picture as a texture, the quickest way this browser has. Without a graphics card,
// WebCodecs' own conversion is more than twice as fast as handing over the video element.

// With these transfer functions the numbers may be shown as they are; the rest is for the browser.
const PLAIN_TRANSFERS = [null, undefined, "bt709", "smpte170m", "iec61966-2-1"];

export class PictureTexture {
  constructor(gl, video) {
    Object.assign(this, { gl, video, converts: typeof VideoFrame !== "undefined", taken: 0 });
    gl.bindTexture(gl.TEXTURE_2D, gl.createTexture());
    for (const [name, value] of [["MIN_FILTER", gl.LINEAR], ["MAG_FILTER", gl.LINEAR], ["WRAP_S", gl.CLAMP_TO_EDGE], ["WRAP_T", gl.CLAMP_TO_EDGE]]) {
      gl.texParameteri(gl.TEXTURE_2D, gl[`TEXTURE_${name}`], value);
    }
  }

  // Take the picture on show in the video; resolves to false if a newer one was taken meanwhile.
  async take() {
    const mine = ++this.taken;
    const { gl } = this;
    if (this.converts && (await this.convert())) {
      if (mine !== this.taken) return false;
      gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, this.width, this.height, 0, gl.RGBA, gl.UNSIGNED_BYTE, this.bytes);
    } else gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, gl.RGBA, gl.UNSIGNED_BYTE, this.video);
    return true;
  }

  // Red, green, blue and alpha of the picture in this.bytes; false if that cannot be had.
  async convert() {
    let frame = null;
    try {
      frame = new VideoFrame(this.video);
      const { width, height } = frame.visibleRect;
      const wanted = { format: "RGBA", colorSpace: "srgb" };
      if (!PLAIN_TRANSFERS.includes(frame.colorSpace.transfer) || frame.allocationSize(wanted) !== 4 * width * height) {
        this.converts = false;
        return false;
      }
      if (this.width !== width || this.height !== height) {
        Object.assign(this, { width, height, bytes: new Uint8Array(4 * width * height) });
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
