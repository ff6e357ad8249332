// Types of what travels between the server and the page, for the type check alone.

interface Job {
  id: number;
  kind: string;
  doing: string;
  ending: boolean;
  title: string;
  state: "queued" | "running" | "stopping" | "done" | "failed" | "cancelled";
  done: number;
  total: number;
  seconds_left: number | null;
  message: string | null;
  clip: number | null;
  recording: number;
  export: number | null;
  open: boolean;
}

/** What Alpine adds to every component. */
interface AlpineMagics {
  $el: HTMLElement;
  $root: HTMLElement;
  $refs: Record<string, any>;
  $store: { clip: ClipStore; view: ViewStore };
  $watch(name: string, told: (value: any) => void): void;
  $nextTick(then?: () => void): Promise<void>;
  $dispatch(name: string, detail?: unknown): void;
}

type ClipStore = import("./clip/store.js").ClipStore;
type ViewStore = import("./clip/view.js").ViewStore;

interface Window {
  Alpine: {
    data(name: string, make: (...args: any[]) => unknown): void;
    store(name: string, value?: unknown): any;
    effect(run: () => void): unknown;
    raw<T>(value: T): T;
  };
  /** The parts of the clip screen that are not watched, for tests and the curious. */
  keen: typeof import("./clip/live.js").live & { clip: ClipStore; view: ViewStore };
}

type Place = [number, number]; // shares of a picture's size

interface Key {
  frame: number;
  value: number;
  smooth: boolean;
}

interface Edge {
  frame: number;
  points: Place[];
  pins: Place[];
  runs: "any" | "level" | "upright";
}

interface HeldPoint {
  frame: number;
  at: Place;
  pattern: number;
  search: number;
  again: { frame: number; at: Place }[];
}

type Subject =
  { kind: "lasso"; frame: number; outline: Place[] } | { kind: "group"; frame: number; at: Place };

/** Settings by station, whichever stations there are; and keyframes by setting. */
interface Treatment {
  version: number;
  keys: Record<string, Key[]>;
  lens: Record<string, any> & { on: boolean; model: string; edges: Edge[]; squeeze: number };
  shutter: Record<string, any> & { on: boolean; readout: number };
  motion: Record<string, any> & {
    on: boolean;
    aim: string;
    calm: number;
    model: string;
    hold: HeldPoint[];
    hold_at: Place | null;
    aside: Subject[];
    steer_by: Subject | null;
  };
  frame: Record<string, any> & { on: boolean; edge: string };
  [station: string]: any;
}

interface Setting {
  label: string;
  unit: string;
  step: number;
  keyed: boolean;
  group: string;
  needs: Record<string, any[]>[];
  choices: Record<string, { label: string; hint: string; by_angle?: boolean }>;
  kind: "number" | "whole" | "choice" | "tick" | "text" | "own";
  low: number | null;
  high: number | null;
  default: any;
}

interface Figure {
  label: string;
  text: string;
  amber: boolean;
  frame: number | null;
  on_price_line: boolean;
}

interface StationAnswer {
  summary: string;
  warnings: string[];
  details: Record<string, string>;
  figures: Figure[];
}

interface PackedLattice {
  start: number;
  columns: number;
  rows: number;
  nodes: string;
}

interface PixelStage {
  name: string;
  end: "recorded" | "colours" | "source" | "output" | "detail" | "grain";
  reach: number; // source px of the blur that detail is told from
  shader: string;
  coded: boolean; // whether its rule is one of code values
  uniforms: Record<string, { size: number; values: string }>;
}

/** How a sphere is drawn: what takes the steadied one's rays to the recorded one's, frame by frame,
 * and the flat camera inside it. */
interface PackedSphere {
  turns: string;
  bends: string | null; // by stitching: three matrices a frame
  meets: number; // where halves of the sphere blend, of a ray's share of its axis
  eye: number[]; // of the film's picture: left, top, width, height
  shape: { width: number; height: number };
  view: {
    on: boolean;
    follows: boolean;
    projection: "rectilinear" | "stereographic" | "cylindrical";
    widest: number; // degrees across that its projection sees at the most
    width: number;
    height: number;
    values: Record<string, string>;
  };
}

interface Version {
  id: number;
  name: string;
  number: number;
  current: boolean;
}

interface PackedStrip {
  before: Record<string, string>;
  after: Record<string, string>;
  room?: string;
  zoom: string;
  blurred: string;
  keyed: Record<string, string>;
  view: string; // this and the zoom of flat clips
  held?: string | null;
  places?: string | null;
  borrowed?: string | null;
  confidence: string;
  weak: string;
  cuts: number[];
}

/** What the server says of a treatment. */
interface Answer {
  treatment: Treatment;
  steps: { undo: boolean; redo: boolean };
  versions: Version[];
  revision: number;
  newer: { words: string; settings: Record<string, any>; glass: Record<string, any> | null } | null;
  damaged: number[]; // frames of the range that the decoder has bridged
  /** What the finished picture was measured to, if it was. */
  finished: string;
  keys: { motion: string; cost: string };
  whole: boolean;
  solving: Job | null;
  report: Record<string, any>;
  stations: Record<string, StationAnswer>;
  price: Figure[];
  notes: string[];
  first: number;
  lattice: PackedLattice; // of flat clips
  pixels: PixelStage[];
  sphere?: PackedSphere;
  displacement: { away: number[]; moved: (number | null)[] } | null;
  strip: PackedStrip;
}

interface Closer {
  wanted: boolean;
  there: boolean;
  seconds: number | null;
  work: Job | null;
}

/** Where a clip stands. */
interface ClipState {
  id: number;
  name: string;
  first: number;
  last: number;
  phase: "refused" | "taking in" | "measuring" | "choosing" | "ready";
  refusal: string | null;
  file?: string | null;
  work: Job | null;
  width: number;
  height: number;
  pixel_aspect: number;
  frame_count?: number;
  rate: number;
  proxy: string;
  source_words: string;
  light_words: string;
  kind?: "flat" | "sphere"; // once it has been taken in
  kind_words: string; // why it was taken for that; empty where there is no question
  sound: boolean;
  /** Of interlaced recordings; hints by what becomes a frame. */
  fields?: { each: string; first: string; words: string; hints: Record<string, string> } | null;
  closer: Closer;
}

type Spot = [number, number]; // canvas pixels

interface Shape {
  width: number;
  height: number;
  aspect: number;
}

interface Box {
  left: number;
  top: number;
  width: number;
  height: number;
}

/** A part of the stage: a picture, and where it is drawn. */
interface Part {
  treated: boolean;
  name: string;
  lattice: import("./clip/stage/lattice.js").Lattice | import("./clip/stage/around.js").Around;
  output: Shape;
  region: Box;
  box: Box;
  side: number;
}

/** Something over the picture that a pointer can take hold of. */
interface Grip {
  away(spot: Spot): number; // canvas pixels
  reach: number; // css pixels
  move(spot: Spot, settled: boolean): void;
  magnified?: boolean;
}

/** What the hand does where nothing can be taken hold of. */
interface Free extends Tool {
  takes(spot: Spot): boolean;
  wheel?(spot: Spot, factor: number): boolean;
}

/** What a pointer does on the picture. */
interface Tool {
  down?(spot: Spot, event: PointerEvent): void;
  move?(spot: Spot, event: PointerEvent): void;
  up?(spot: Spot, event: PointerEvent): void;
  cancel?(): void;
  hover?(spot: Spot): void;
}

type Pen = CanvasRenderingContext2D;

/** The vendored client of the tus protocol, as far as it is used. */
interface TusUpload {
  start(): void;
  abort(terminate?: boolean): Promise<void>;
  findPreviousUploads(): Promise<any[]>;
  resumeFromPreviousUpload(earlier: any): void;
}

interface Window {
  tus: {
    Upload: new (
      file: File,
      options: Record<string, any> & {
        onSuccess: (payload: {
          lastResponse: { getHeader(name: string): string | undefined };
        }) => void;
      },
    ) => TusUpload;
  };
}
