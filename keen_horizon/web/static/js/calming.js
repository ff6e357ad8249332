// Calm, of all components together or of each on its own. Mixed into the clip screen.

const COMPONENTS = [["calm_across", "across"], ["calm_updown", "up-down"], ["calm_roll", "roll"], ["calm_size", "size"]];

export const calming = {
  reflectCalms() {
    const { motion } = this.treatment;
    this.linked = COMPONENTS.every(([key]) => motion[key] === null);
    const used = motion.model === "shift" ? COMPONENTS.slice(0, 2) : COMPONENTS;
    this.calms = used.map(([key, name]) => ({ key, name, value: motion[key] ?? motion.calm }));
  },

  unlink() {
    const { motion } = this.treatment;
    for (const [key] of COMPONENTS) motion[key] = motion.calm;
    this.solve(true);
  },

  // Together again, at the calm that all had before they were parted.
  link() {
    for (const [key] of COMPONENTS) this.treatment.motion[key] = null;
    this.solve(true);
  },
};
