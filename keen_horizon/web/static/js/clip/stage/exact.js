// A frame as an export draws it, at full size: two pictures on the graphics card.
import { newTexture } from "./texture.js";

export class ExactPictures {
  /**
   * @param {number} frame of the recording
   * @param {object | null} answer whose treatment they show
   * @param {ImageBitmap} recorded
   * @param {ImageBitmap} treated
   */
  constructor(frame, answer, recorded, treated) {
    this.frame = frame;
    this.answer = answer;
    this.recorded = recorded;
    this.treated = treated;
    /** @type {Map<ImageBitmap, WebGLTexture | null>} */
    this.textures = new Map();
    /** @type {WebGLRenderingContext | null} that they are on */
    this.gl = null;
  }

  /**
   * The texture of one of them, in place of the proxy's.
   * @param {WebGLRenderingContext} gl
   * @param {boolean} treated
   */
  bind(gl, treated) {
    if (this.gl !== gl) this.textures.clear();
    this.gl = gl;
    const picture = treated ? this.treated : this.recorded;
    gl.activeTexture(gl.TEXTURE0);
    const known = this.textures.get(picture);
    if (known) {
      gl.bindTexture(gl.TEXTURE_2D, known);
      return;
    }
    const texture = newTexture(gl, gl.NEAREST); // pixels, as they are
    gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, gl.RGBA, gl.UNSIGNED_BYTE, picture);
    this.textures.set(picture, texture);
  }

  close() {
    for (const texture of this.textures.values()) this.gl?.deleteTexture(texture);
    this.textures.clear();
    this.recorded.close();
    this.treated.close();
  }
}
