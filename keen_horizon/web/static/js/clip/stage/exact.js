// A frame as an export draws it, at full size: two pictures on the graphics card.
import { newTexture } from "./texture.js";

export class ExactPictures {
  /**
   * @param {number} frame of the recording
   * @param {object | null} answer whose treatment they show
   * @param {Record<string, ImageBitmap>} pictures `recorded` and `treated`, perhaps maps of both
   */
  constructor(frame, answer, pictures) {
    this.frame = frame;
    this.answer = answer;
    this.pictures = pictures;
    /** @type {Map<ImageBitmap, WebGLTexture | null>} */
    this.textures = new Map();
    /** @type {WebGLRenderingContext | null} that they are on */
    this.gl = null;
  }

  /** Whether maps of fringes are to be seen in place of the pictures. */
  get mapped() {
    return "treated_map" in this.pictures;
  }

  /**
   * Whether they are of a frame and a treatment, with maps of fringes or without.
   * @param {number} frame
   * @param {object | null} answer
   * @param {boolean} mapped
   */
  isOf(frame, answer, mapped) {
    return this.frame === frame && this.answer === answer && this.mapped === mapped;
  }

  /**
   * The texture of one of them, in place of the proxy's.
   * @param {WebGLRenderingContext} gl
   * @param {boolean} treated
   */
  bind(gl, treated) {
    if (this.gl !== gl) this.textures.clear();
    this.gl = gl;
    const name = treated ? "treated" : "recorded";
    const picture = this.pictures[this.mapped ? `${name}_map` : name];
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
    for (const picture of Object.values(this.pictures)) picture.close();
  }
}
