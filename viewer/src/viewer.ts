// A canvas that shows one scene, or two side by side, with one camera; draws only when something has changed.

import { Camera } from "./camera";
import { AXIS_COLORS, Drawing, FIGURE_HEIGHT, figurePlace, gridStep, spanOf, type Overlay, type Rect, type Wanted } from "./drawing";
import { length, type Box, type Facts, type Source, type Vec3 } from "./facts";
import { Loaded } from "./model";
import type { Style } from "./shaders";

export interface ViewerEvents {
  picked?(node: number): void;
  measured?(points: Vec3[]): void;
  drawn?(state: { triangles: number; levels: Map<string, number> }): void;
  problem?(text: string): void;
}

const AUTO = -1;
const TURN = Math.PI / 24; // for each press of a key
const FLIGHT = 350; // milliseconds
const SIDES: Record<string, [number, number]> = {
  front: [0, 0], back: [Math.PI, 0], left: [Math.PI / 2, 0], right: [-Math.PI / 2, 0], top: [0, Math.PI / 2],
  bottom: [0, -Math.PI / 2], corner: [0.6, 0.35],
};

export class Viewer {
  readonly camera = new Camera();
  readonly overlays = new Set<Overlay>(["grid", "figure", "axes"]);
  style: Style = "shaded";
  level = 0; // of detail; AUTO by distance
  measuring = false;
  selected = -1;
  marked = new Set<number>();
  private gl: WebGL2RenderingContext | null = null;
  private drawing: Drawing | null = null;
  private after: Loaded | null = null;
  private before: Loaded | null = null;
  private sources: { after: Source | null; before: Source | null } = { after: null, before: null };
  private points: Vec3[] = [];
  private waiting = false;
  private framed = false;
  private flight = 0;
  private labels: HTMLElement;
  pictures = 0; // drawn so far

  constructor(readonly canvas: HTMLCanvasElement, private events: ViewerEvents = {}) {
    this.labels = document.createElement("div");
    this.labels.className = "labels";
    this.labels.setAttribute("aria-hidden", "true");
    canvas.after(this.labels);
    this.begin();
    canvas.addEventListener("webglcontextlost", (event) => {
      event.preventDefault();
      this.forget();
      this.events.problem?.("The browser has taken the picture's memory away; it comes back by itself when it can.");
    });
    canvas.addEventListener("webglcontextrestored", () => {
      this.begin();
      this.events.problem?.("");
      void this.reload();
    });
    new ResizeObserver(() => this.invalidate()).observe(canvas);
    matchMedia("(prefers-color-scheme: dark)").addEventListener("change", () => this.invalidate());
    this.listen();
  }

  private begin(): void {
    this.gl = this.canvas.getContext("webgl2", { antialias: true, preserveDrawingBuffer: true });
    if (!this.gl) {
      this.events.problem?.("This browser cannot draw in three dimensions (WebGL 2 is off). The lists still work.");
      return;
    }
    this.drawing = new Drawing(this.gl, () => this.invalidate());
  }

  private forget(): void {
    this.drawing = this.gl = this.after = this.before = null;
  }

  get facts(): Facts | null {
    return this.sources.after?.facts ?? null;
  }

  /** Show a scene, beside what it was before where that is given. */
  async show(after: Source, before: Source | null = null, keepCamera = false): Promise<void> {
    this.sources = { after, before };
    this.selected = -1;
    this.marked.clear();
    this.points = [];
    await this.reload();
    if (!keepCamera || !this.framed) this.frame(false);
  }

  private async reload(): Promise<void> {
    const { after, before } = this.sources;
    if (!this.gl || !after) return;
    const gl = this.gl;
    const changed = (): void => this.invalidate();
    const made = await Promise.all([
      Loaded.load(gl, after, changed), before ? Loaded.load(gl, before, changed) : Promise.resolve(null),
    ]);
    if (this.gl !== gl || this.sources.after !== after) return made.forEach((one) => one?.free());
    this.after?.free();
    this.before?.free();
    [this.after, this.before] = made;
    const bounds = after.facts.bounds;
    const boxes = [bounds, before?.facts.bounds].filter((one): one is Box => !!one);
    this.camera.span = Math.max(...boxes.map(spanOf), 1e-4);
    this.invalidate();
  }

  /** Forget the models; the canvas may go. */
  close(): void {
    this.after?.free();
    this.before?.free();
    this.after = this.before = null;
    this.gl?.getExtension("WEBGL_lose_context")?.loseContext();
    this.labels.remove();
  }

  // ---- where the camera is

  frame(smooth = true): void {
    this.framed = true;
    this.flyTo(this.whole(), smooth);
  }

  /** The box of all that is shown, with the figure beside it. */
  private whole(): Box {
    const facts = this.sources.after?.facts;
    if (!facts?.bounds) return [[-1, 0, -1], [1, 1, 1]];
    const [low, high] = [[...facts.bounds[0]], [...facts.bounds[1]]] as Box;
    const foot = this.overlays.has("figure") ? figurePlace(facts) : null;
    if (foot) {
      const reach = [0.3, 0, 0.3];
      for (let k = 0; k < 3; k++) {
        low[k] = Math.min(low[k], foot[k] - reach[k]);
        high[k] = Math.max(high[k], foot[k] + (k === 1 ? FIGURE_HEIGHT : reach[k]));
      }
    }
    return [low, high];
  }

  /** Move the camera to where a box is seen whole. */
  flyTo(box: Box, smooth = true): void {
    const [, rect] = this.sides().at(-1) ?? [null, { wide: this.canvas.clientWidth, high: this.canvas.clientHeight }];
    const goal = this.camera.framing(box, rect.wide / Math.max(rect.high, 1) || 1);
    const from = { target: [...this.camera.target] as Vec3, distance: this.camera.distance };
    const flight = ++this.flight;
    const still = !smooth || matchMedia("(prefers-reduced-motion: reduce)").matches;
    const begun = performance.now();
    const step = (now: number): void => {
      if (flight !== this.flight) return;
      const share = still ? 1 : Math.min((now - begun) / FLIGHT, 1);
      const eased = share * share * (3 - 2 * share);
      for (let k = 0; k < 3; k++) {
        this.camera.target[k] = from.target[k] + eased * (goal.target[k] - from.target[k]);
      }
      this.camera.distance = from.distance * (goal.distance / from.distance) ** eased;
      this.invalidate();
      if (share < 1) requestAnimationFrame(step);
    };
    step(begun);
  }

  /** Look at a place and its surroundings, a share of the whole. */
  flyToPlace(place: Vec3, share = 0.12): void {
    const reach = Math.max(this.camera.span * share, 1e-4);
    this.flyTo([place.map((one) => one - reach) as Vec3, place.map((one) => one + reach) as Vec3]);
  }

  look(side: string): void {
    [this.camera.yaw, this.camera.pitch] = SIDES[side];
    this.frame();
  }

  // ---- what is drawn

  select(node: number): void {
    this.selected = node;
    this.invalidate();
  }

  clearMeasure(): void {
    this.points = [];
    this.events.measured?.(this.points);
    this.invalidate();
  }

  /** The nodes whose surfaces are seen: of each asset the level that is chosen. */
  private shown(facts: Facts, levels?: Map<string, number>): Set<number> {
    const eye = this.camera.place;
    const found = new Set<number>();
    for (const asset of facts.assets) {
      let nodes = asset.main.filter((one) => facts.nodes[one]?.visible ?? true);
      let level = 0;
      const away = this.level === AUTO ? distanceTo(eye, facts.nodes[asset.main[0]]?.box) : 0;
      for (const one of asset.levels) {
        const reached = this.level === AUTO ? one.distance !== null && one.distance <= away : one.number <= this.level;
        if (reached || (!nodes.length && !level)) {
          nodes = one.nodes;
          level = one.number;
        }
      }
      for (const one of nodes) found.add(one);
      if (asset.levels.length) levels?.set(asset.name, level);
    }
    return found;
  }

  invalidate(): void {
    if (this.waiting) return;
    this.waiting = true;
    requestAnimationFrame(() => {
      this.waiting = false;
      this.draw();
    });
  }

  private draw(): void {
    const { gl, canvas, drawing } = this;
    if (!gl || !drawing || gl.isContextLost()) return;
    const wide = Math.round(canvas.clientWidth * devicePixelRatio);
    const high = Math.round(canvas.clientHeight * devicePixelRatio);
    if (!wide || !high) return;
    if (canvas.width !== wide || canvas.height !== high) [canvas.width, canvas.height] = [wide, high];
    drawing.clear();
    this.pictures++;
    const levels = new Map<string, number>();
    this.labels.replaceChildren();
    for (const [model, rect, last] of this.sides()) {
      const wanted: Wanted = {
        style: this.style,
        overlays: this.overlays,
        shown: this.shown(model.facts, last ? levels : undefined),
        marked: last ? this.marked : new Set(),
        selected: last ? this.selected : -1,
        points: last ? this.points : [],
        dark: matchMedia("(prefers-color-scheme: dark)").matches,
      };
      drawing.draw(model, this.camera, rect, wanted);
      this.label(model, rect, last);
    }
    this.events.drawn?.({ triangles: drawing.triangles, levels });
  }

  /** The models with where they are drawn, in pixels of the canvas; the last is the one that counts. */
  private sides(): [Loaded, Rect, boolean][] {
    const { width: wide, height: high } = this.canvas;
    if (!this.after) return [];
    if (!this.before) return [[this.after, { x: 0, y: 0, wide, high }, true]];
    const half = Math.floor(wide / 2);
    return [
      [this.before, { x: 0, y: 0, wide: half - 1, high }, false],
      [this.after, { x: half + 1, y: 0, wide: wide - half - 1, high }, true],
    ];
  }

  private label(model: Loaded, rect: Rect, last: boolean): void {
    const scale = devicePixelRatio;
    const put = (text: string, place: Vec3, color = ""): void => {
      const [x, y, w] = this.camera.seen(place, rect.wide / scale, rect.high / scale);
      if (w <= 0 || x < 0 || x > rect.wide / scale || y < 0 || y > rect.high / scale) return;
      this.write(text, x + rect.x / scale, y, color);
    };
    const { facts } = model;
    const reach = 0.38 * spanOf(facts.bounds);
    if (this.overlays.has("axes")) {
      facts.directions.forEach((way, axis) => {
        const word = `${"XYZ"[axis]} ${facts.axes[axis]}`;
        put(word, way.map((part) => part * reach) as Vec3, css(AXIS_COLORS[axis]));
      });
    }
    const foot = this.overlays.has("figure") ? figurePlace(facts) : null;
    if (foot) put(length(FIGURE_HEIGHT), [foot[0], foot[1] + FIGURE_HEIGHT + 0.1, foot[2]]);
    if (last && this.points.length === 2) {
      const [a, b] = this.points;
      put(length(Math.hypot(b[0] - a[0], b[1] - a[1], b[2] - a[2])), [0, 1, 2].map((k) => (a[k] + b[k]) / 2) as Vec3);
    }
    if (this.before) this.write(last ? "after" : "before", rect.x / scale + 40, 22);
    if (rect.x === 0 && this.overlays.has("grid")) {
      const step = gridStep(spanOf(facts.bounds));
      const text = facts.unit === null ? `grid ${step} units` : `grid ${length(step)}`;
      this.write(text, (rect.x + rect.wide) / scale - 55, 22);
    }
    const feet = last && this.overlays.has("footing") ? this.drawing?.footingOf(model) : null;
    if (feet) {
      const said = `feet float up to ${length(feet.floats)} (orange), sink up to ${length(feet.sinks)} (blue)`;
      const text = feet.places ? said + (feet.falls ? ", fall through (plum)" : "") : "nobody can stand here";
      this.write(text, (rect.x + rect.wide / 2) / scale, rect.high / scale - 40);
    }
    if (last && this.measuring && document.activeElement === this.canvas) {
      this.write("+", (rect.x + rect.wide / 2) / scale, rect.high / 2 / scale);
    }
  }

  private write(text: string, x: number, y: number, color = ""): void {
    const label = document.createElement("span");
    label.textContent = text;
    label.style.left = `${x.toFixed(1)}px`;
    label.style.top = `${y.toFixed(1)}px`;
    if (color) label.style.color = color;
    this.labels.append(label);
  }

  // ---- what people do

  private listen(): void {
    const { canvas, camera } = this;
    const fingers = new Map<number, { x: number; y: number }>();
    let moved = 0;
    canvas.addEventListener("pointerdown", (event) => {
      canvas.setPointerCapture(event.pointerId);
      canvas.focus({ preventScroll: true });
      fingers.set(event.pointerId, { x: event.clientX, y: event.clientY });
      if (fingers.size === 1) moved = 0;
      this.flight++;
    });
    canvas.addEventListener("pointermove", (event) => {
      const was = fingers.get(event.pointerId);
      if (!was) return;
      const dx = event.clientX - was.x, dy = event.clientY - was.y;
      moved += Math.abs(dx) + Math.abs(dy);
      const high = canvas.clientHeight;
      if (fingers.size === 2) {
        const other = [...fingers.entries()].find(([id]) => id !== event.pointerId)![1];
        const apart = Math.hypot(was.x - other.x, was.y - other.y);
        const now = Math.hypot(event.clientX - other.x, event.clientY - other.y);
        if (now > 1) camera.zoom(apart / now);
        camera.move(-dx / 2 / high, dy / 2 / high);
      } else if (event.buttons === 2 || event.buttons === 4 || event.shiftKey) {
        camera.move(-dx / high, dy / high);
      } else {
        camera.turn((dx * 4) / high, (dy * 4) / high);
      }
      fingers.set(event.pointerId, { x: event.clientX, y: event.clientY });
      this.invalidate();
    });
    const lift = (event: PointerEvent): void => {
      if (fingers.delete(event.pointerId) && moved < 5 && event.type === "pointerup" && event.button === 0) {
        const box = canvas.getBoundingClientRect();
        this.point(event.clientX - box.left, event.clientY - box.top);
      }
    };
    canvas.addEventListener("pointerup", lift);
    canvas.addEventListener("pointercancel", lift);
    canvas.addEventListener("contextmenu", (event) => event.preventDefault());
    canvas.addEventListener("wheel", (event) => {
      event.preventDefault();
      camera.zoom(Math.exp(event.deltaY * 0.0015));
      this.invalidate();
    }, { passive: false });
    canvas.addEventListener("keydown", (event) => this.key(event));
    canvas.addEventListener("focus", () => this.invalidate());
    canvas.addEventListener("blur", () => this.invalidate());
  }

  private key(event: KeyboardEvent): void {
    if (event.ctrlKey || event.altKey || event.metaKey) return;
    const ways: Record<string, [number, number]> = {
      ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1],
    };
    const way = ways[event.key];
    if (way && event.shiftKey) this.camera.move(way[0] * 0.05, way[1] * 0.05);
    else if (way) this.camera.turn(-way[0] * TURN, way[1] * TURN);
    else if (event.key === "+" || event.key === "=") this.camera.zoom(0.9);
    else if (event.key === "-") this.camera.zoom(1 / 0.9);
    else if (event.key === "0" || event.key === "Home") this.frame();
    else if (event.key === "Enter") this.point(this.canvas.clientWidth * (this.before ? 0.75 : 0.5), this.canvas.clientHeight / 2);
    else if (event.key === "Escape") {
      this.selected = -1;
      this.clearMeasure();
      this.events.picked?.(-1);
    } else return;
    event.preventDefault();
    this.flight++;
    this.invalidate();
  }

  /** Click on a place of the canvas: choose its node, or measure from or to it. */
  private point(x: number, y: number): void {
    const { after, drawing } = this;
    const side = this.sides().at(-1);
    if (!after || !drawing || !side) return;
    const scale = devicePixelRatio;
    const [, rect] = side;
    const own = { x: Math.round(x * scale - rect.x), y: Math.round(rect.high - y * scale) };
    if (own.x < 0) return;
    const found = drawing.at(after, this.camera, own.x, own.y, rect, this.shown(after.facts));
    if (this.measuring) {
      if (!found) return;
      const place = this.camera.unseen(x - rect.x / scale, y, found[1], rect.wide / scale, rect.high / scale);
      this.points = this.points.length === 1 ? [this.points[0], place] : [place];
      this.events.measured?.(this.points);
    } else {
      this.selected = found ? found[0] : -1;
      this.events.picked?.(this.selected);
    }
    this.invalidate();
  }
}

function distanceTo(eye: Vec3, box: Box | null | undefined): number {
  if (!box) return 0;
  return Math.hypot(...[0, 1, 2].map((k) => eye[k] - (box[0][k] + box[1][k]) / 2));
}

function css(color: readonly number[]): string {
  return `rgb(${color.slice(0, 3).map((part) => Math.round(255 * part)).join(" ")})`;
}
