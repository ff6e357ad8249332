// Tools of the Motion station.
import "./motion/calm.js";
import "./motion/ease.js";
import "./motion/finished.js";
import "./motion/hold.js";
import "./motion/marks.js";
import "./motion/lock.js";
