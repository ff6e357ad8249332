// Tools of the Frame station.
import "./frame/cover.js";
import "./frame/pull.js";
import "./frame/size.js";
import "./frame/square-up.js";
import "./frame/swell.js";
import "./frame/zoom.js";
