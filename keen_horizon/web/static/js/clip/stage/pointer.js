// The pointer over the picture: one tool at a time hears of it. Without a tool in hand, it takes
// hold of what is drawn there, or moves an enlarged picture.

export class Pointer {
  /**
   * @param {HTMLElement} element
   * @param {import("./stage.js").Stage} stage
   */
  constructor(element, stage) {
    this.element = element;
    this.stage = stage;
    /** @type {Record<string, Tool>} */
    this.tools = { "": hand(stage, this) };
    this.name = "";
    /** @type {Tool | null} whose press is under way */
    this.pressed = null;
    /** @type {Free | null} what the hand does where nothing is taken hold of */
    this.free = null;
    element.addEventListener("pointerdown", (event) => this.down(event));
    element.addEventListener("pointermove", (event) => this.move(event));
    element.addEventListener("pointerup", (event) => this.up(event));
    element.addEventListener("pointercancel", () => this.cancel());
    element.addEventListener("lostpointercapture", () => this.cancel());
    element.addEventListener("pointerleave", () => this.hover(null));
  }

  /**
   * @param {string} name
   * @param {Tool} tool
   */
  add(name, tool) {
    this.tools[name] = tool;
  }

  /** @param {string} name of the tool in hand; none for the hand itself */
  use(name) {
    if (name !== this.name) this.tools[this.name].cancel?.();
    this.pressed = null;
    this.name = name;
    this.element.classList.toggle("has-tool", Boolean(name));
  }

  get tool() {
    return this.tools[this.name];
  }

  /** @param {PointerEvent} event */
  down(event) {
    const target = /** @type {HTMLElement} */ (event.target);
    if (event.button || target.closest("button")) return;
    this.element.setPointerCapture(event.pointerId);
    this.pressed = this.tool;
    this.pressed.down?.(this.stage.spot(event), event);
  }

  /** @param {PointerEvent} event */
  move(event) {
    const spot = this.stage.spot(event);
    this.stage.pointed = spot;
    if (this.pressed) this.pressed.move?.(spot, event);
    else if (!event.buttons) this.hover(spot);
  }

  /** @param {Spot | null} spot */
  hover(spot) {
    this.hovered?.(spot);
  }

  /** @type {((spot: Spot | null) => void) | undefined} who wants to know where the pointer rests */
  hovered = undefined;

  /** @param {PointerEvent} event */
  up(event) {
    const { pressed } = this;
    this.pressed = null;
    pressed?.up?.(this.stage.spot(event), event);
  }

  /** The press came to nothing: the window lost the pointer. */
  cancel() {
    const { pressed } = this;
    this.pressed = null;
    pressed?.cancel?.();
  }
}

/**
 * The hand itself.
 * @param {import("./stage.js").Stage} stage
 * @param {Pointer} pointer
 * @returns {Tool}
 */
function hand(stage, pointer) {
  /** @type {Grip | null} */
  let held = null;
  /** @type {{ spot: Spot, centre: { x: number, y: number } } | null} */
  let from = null;
  /** @type {Free | null} */
  let free = null;

  /**
   * @param {Spot} spot
   * @param {boolean} settled
   */
  const drag = (spot, settled) => {
    if (!held) return;
    stage.overlay.magnified = held.magnified && !settled ? spot : null;
    held.move(spot, settled);
    stage.draw();
  };
  return {
    down(spot, event) {
      const near = stage.overlay.grips
        .map((grip) => ({ grip, away: grip.away(spot) }))
        .filter(({ grip, away }) => away < grip.reach * stage.ratio)
        .sort((a, b) => a.away - b.away);
      held = near.length ? near[0].grip : null;
      if (held) stage.clock.pause();
      else if (pointer.free?.takes(spot)) {
        ({ free } = pointer);
        free?.down?.(spot, event);
      } else if (stage.zoom > 1) from = { spot, centre: { ...stage.centre } };
    },
    move(spot, event) {
      if (held) drag(spot, false);
      else if (free) free.move?.(spot, event);
      else if (from) {
        const { box } = stage.partAt(spot);
        const x = from.centre.x - (spot[0] - from.spot[0]) / box.width;
        const y = from.centre.y - (spot[1] - from.spot[1]) / box.height;
        stage.look(stage.zoom, x, y);
      }
    },
    up(spot, event) {
      drag(spot, true);
      free?.up?.(spot, event);
      held = from = free = null;
    },
    cancel() {
      stage.overlay.magnified = null;
      free?.cancel?.();
      held = from = free = null;
      stage.drawOver();
    },
  };
}

/**
 * A grip that is one spot.
 * @param {Spot} spot
 * @param {(to: Spot, settled: boolean) => void} move
 * @param {boolean} [magnified]
 * @returns {Grip}
 */
export const gripAt = (spot, move, magnified = false) => ({
  away: (to) => Math.hypot(spot[0] - to[0], spot[1] - to[1]),
  reach: 16,
  move,
  magnified,
});
