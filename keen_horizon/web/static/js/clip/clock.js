// The one clock of a clip: which frame of the recording is on show, playing, and what is looped.

export class Clock {
  /** @param {HTMLVideoElement} video the proxy, which has every frame of the recording */
  constructor(video) {
    this.video = video;
    this.times = new Float64Array([0]); // presentation times of all frames, seconds
    this.first = 0; // frames of the range
    this.last = 0;
    this.frame = 0; // of the recording
    /** @type {[number, number] | null} frames of the recording that are played over and over */
    this.loop = null;
    /** @type {number | undefined} frame that has been asked for */
    this.target = undefined;
    /** @type {number | undefined} frame that is gone to after this one */
    this.then = undefined;
    /** @type {(frame: number) => Promise<boolean>} whether the picture could be taken */
    this.take = async () => true;
    /** @type {((frame: number) => void)[]} who is told of a new frame */
    this.told = [];
    video.addEventListener("seeked", () => this.settle());
    this.watch();
  }

  get playing() {
    return !this.video.paused;
  }

  /** What is played: the range, or the loop in it. */
  get span() {
    return this.loop ?? [this.first, this.last];
  }

  /** Frame of the range, also where it is outside. */
  get at() {
    return this.frame - this.first;
  }

  get outside() {
    return this.frame < this.first || this.frame > this.last;
  }

  /**
   * Presentation times differ between machines by rounding; the frame shown is the nearest one.
   * @param {number} time
   */
  frameAt(time) {
    let low = 0;
    let high = this.times.length - 1;
    while (low < high) {
      const middle = (low + high + 1) >> 1;
      if (this.times[middle] <= time + 1e-4) low = middle;
      else high = middle - 1;
    }
    const next = this.times[low + 1];
    return next !== undefined && next - time < time - this.times[low] ? low + 1 : low;
  }

  watch() {
    this.video.requestVideoFrameCallback((_now, { mediaTime }) => {
      this.show(this.frameAt(mediaTime));
      this.watch();
    });
  }

  /**
   * A frame callback is a best effort; after a seek on a stopped clip there is no second chance, so
   * the picture is then taken in any case.
   */
  settle() {
    setTimeout(() => {
      const { paused, seeking } = this.video;
      if (paused && !seeking && this.target !== undefined && this.frame !== this.target) {
        this.show(this.target);
      }
    }, 60);
  }

  /** @param {number} frame */
  async show(frame) {
    if (!(await this.take(frame))) return;
    this.frame = frame;
    const [first, last] = this.span;
    if (this.playing && frame >= last) this.seek(first); // play in a loop
    if (this.then === frame + 1) {
      this.then = undefined;
      this.goTo(frame + 1);
    }
    for (const tell of this.told) tell(frame);
  }

  /**
   * Within the range, or, with `anywhere`, within the recording.
   * @param {number} frame
   * @param {{ anywhere?: boolean, withBefore?: boolean }} [how] `withBefore`: the picture before it
   *   is wanted, too
   */
  seek(frame, { anywhere = false, withBefore = false } = {}) {
    const [first, last] = anywhere ? [0, this.times.length - 1] : [this.first, this.last];
    const to = Math.max(first, Math.min(last, frame));
    const before = withBefore && !this.playing && to > first && this.frame !== to - 1;
    this.then = before ? to : undefined;
    this.goTo(before ? to - 1 : to);
  }

  /** @param {number} to */
  goTo(to) {
    this.target = to;
    const next = this.times[to + 1];
    const step = this.times.length > 1 ? this.times[1] - this.times[0] : 0.04;
    // The middle of the frame's time: no rounding can turn it into a neighbour.
    const half = (next === undefined ? step : next - this.times[to]) / 2;
    this.video.currentTime = this.times[to] + half;
  }

  /**
   * @param {number} count
   * @param {{ withBefore?: boolean }} [how]
   */
  step(count, how) {
    this.pause();
    const from = this.video.seeking && this.target !== undefined ? this.target : this.frame;
    this.seek(from + count, how);
  }

  play() {
    const [first, last] = this.span;
    if (this.frame >= last || this.frame < first) this.seek(first);
    return this.video.play().catch(() => {});
  }

  pause() {
    this.video.pause();
  }

  /** L plays, again faster; J halves the speed, and stepping back takes over below a quarter. */
  faster() {
    const { video } = this;
    if (this.playing) video.playbackRate = Math.min(4, video.playbackRate * 2);
    else {
      video.playbackRate = 1;
      this.play();
    }
  }

  slower() {
    const { video } = this;
    if (this.playing && video.playbackRate > 0.25) video.playbackRate /= 2;
    else this.step(-1);
  }

  /** Seconds from the start of the range. */
  get seconds() {
    return this.times[this.frame] - this.times[this.first];
  }

  /** What the clock says: `0:06.83 · frame 205`. */
  get words() {
    const { seconds } = this;
    const minutes = Math.floor(Math.abs(seconds) / 60);
    const rest = (Math.abs(seconds) - 60 * minutes).toFixed(2).padStart(5, "0");
    return `${seconds < 0 ? "−" : ""}${minutes}:${rest} · frame ${this.frame}`;
  }
}
