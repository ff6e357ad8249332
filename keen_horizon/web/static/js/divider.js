// The dividing line of the split view: dragged and turned. Mixed into the clip screen.
import { parts } from "./parts.js";

export const dividing = {
  placeDivider() {
    const { point } = parts.stage.line();
    const { divider, knob } = this.$refs;
    divider.style.left = `${point[0] / parts.stage.ratio}px`;
    divider.style.top = `${point[1] / parts.stage.ratio}px`;
    knob.style.transform = `translate(${-38 * Math.sin(parts.stage.split.turn)}px, ${38 * Math.cos(parts.stage.split.turn)}px)`;
  },

  holdDivider() {
    const { divider, knob } = this.$refs;
    const drag = (handle, move) => {
      handle.addEventListener("pointerdown", (event) => {
        event.stopPropagation();
        handle.setPointerCapture(event.pointerId);
      });
      handle.addEventListener("pointermove", (event) => {
        if (!handle.hasPointerCapture(event.pointerId)) return;
        event.stopPropagation();
        move(...parts.stage.spot(event));
        parts.stage.draw();
        this.placeDivider();
      });
    };
    drag(divider, (x, y) => {
      const { box } = parts.stage.line();
      parts.stage.split.x = Math.max(0, Math.min(1, (x - box.left) / box.width));
      parts.stage.split.y = Math.max(0, Math.min(1, (y - box.top) / box.height));
    });
    drag(knob, (x, y) => {
      const { point } = parts.stage.line();
      parts.stage.split.turn = Math.atan2(y - point[1], x - point[0]) - Math.PI / 2;
    });
    divider.addEventListener("keydown", (event) => {
      const way = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[event.key];
      if (!way) return;
      event.preventDefault();
      event.stopPropagation();
      if (event.shiftKey) parts.stage.split.turn += 0.1 * (way[0] + way[1]);
      else {
        parts.stage.split.x = Math.max(0, Math.min(1, parts.stage.split.x + 0.02 * way[0]));
        parts.stage.split.y = Math.max(0, Math.min(1, parts.stage.split.y + 0.02 * way[1]));
      }
      parts.stage.draw();
      this.placeDivider();
    });
    new ResizeObserver(() => this.placeDivider()).observe(this.$refs.stage);
  },
};
