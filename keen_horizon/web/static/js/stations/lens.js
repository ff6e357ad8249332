// Tools of the Lens station: the ways in to a lens, and the grid it is judged with.
import "./lens/cabinet.js";
import "./lens/charts.js";
import "./lens/curve.js";
import "./lens/dial.js";
import "./lens/edges.js";
import "./lens/grid-tools.js";
import "./lens/horizon.js";
import "./lens/motion.js";
import "./lens/ways.js";
