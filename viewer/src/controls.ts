// The switches, lists and facts beside a picture.

import { check, h, section } from "./dom";
import type { Overlay } from "./drawing";
import { count, length, size, type Facts, type Finding, type NodeFacts, type Source, type Vec3 } from "./facts";
import type { Style } from "./shaders";
import { Viewer, type ViewerEvents } from "./viewer";

const STYLE_WORDS: Record<Style, string> = {
  shaded: "shaded", wire: "wire", normals: "normals", checker: "UV checker", colors: "vertex colours", slots: "material slots",
};
const OVERLAY_WORDS: [Overlay, string, (facts: Facts) => boolean][] = [
  ["edges", "edges", () => true],
  ["collision", "collision", (facts) => !!facts.kinds.collision],
  ["footing", "footing", (facts) => !!facts.kinds.collision],
  ["shadow", "shadow mesh", (facts) => !!facts.kinds.shadow],
  ["bounds", "bounds", () => true],
  ["pivot", "pivots", () => true],
  ["axes", "axes", () => true],
  ["grid", "grid", () => true],
  ["figure", "figure", (facts) => facts.unit !== null],
];
const SIDE_WORDS = ["corner", "front", "back", "left", "right", "top", "bottom"];
const KEYS = "Drag or arrow keys turn, Shift moves, wheel or + and − zoom, 0 shows all, Enter picks in the middle.";
const MOST_ROWS = 1500; // of the tree
const MOST_FINDINGS = 100;

/** A picture with all that belongs to it. */
export class Panel {
  readonly root: HTMLElement;
  readonly viewer: Viewer;
  private side = h("div", { class: "side" });
  private state = h("p", { class: "drawn", role: "status" });
  private problem = h("p", { class: "problem", role: "alert", hidden: true });
  private details = h("div", { class: "details", "aria-live": "polite" });
  private measured = h("p", { class: "measured", role: "status" });
  private tree = h("ul", { class: "tree" });
  private facts: Facts | null = null;
  private moved: string[] = [];

  constructor(extra: { beside?: (on: boolean) => void; compact?: boolean; events?: ViewerEvents } = {}) {
    const canvas = h("canvas", {
      tabindex: 0, role: "application", "aria-label": `Picture in the round. ${KEYS}`, "aria-roledescription": "3D view",
    });
    const stage = h("div", { class: "stage" }, canvas);
    this.root = h("div", { class: extra.compact ? "panel compact" : "panel" }, stage, this.side);
    stage.append(this.problem, this.state);
    this.viewer = new Viewer(canvas, {
      picked: (node) => this.showNode(node),
      measured: (points) => this.showMeasure(points),
      drawn: (state) => this.showState(state.triangles, state.levels),
      problem: (text) => this.showProblem(text),
      ...extra.events,
    });
    this.extra = extra;
  }

  private extra: { beside?: (on: boolean) => void; compact?: boolean };
  private besideOn = false;

  /** Build everything for a scene; what was switched on stays on. */
  fill(source: Source, moved: string[] = [], beside: "none" | "off" | "on" = "none"): void {
    const { facts } = source;
    this.facts = facts;
    this.moved = moved;
    this.besideOn = beside === "on";
    const parts = [this.looks(facts), this.levels(facts), this.tools(beside), section("Chosen", this.details)];
    if (!this.extra.compact) parts.push(this.findings(source), this.nodes(facts), this.notes(facts));
    this.side.replaceChildren(...parts);
    this.showNode(-1);
    this.showMeasure([]);
  }

  showProblem(text: string): void {
    this.problem.textContent = text;
    this.problem.hidden = !text;
  }

  private looks(facts: Facts): HTMLElement {
    const name = `style-${Math.random().toString(36).slice(2)}`;
    const styles = Object.entries(STYLE_WORDS).map(([style, word]) => {
      const off = style === "colors" && !facts.kinds.colors;
      const button = h("input", { type: "radio", name, value: style, checked: this.viewer.style === style, disabled: off });
      button.addEventListener("change", () => {
        this.viewer.style = style as Style;
        this.viewer.invalidate();
      });
      return h("label", { class: off ? "switch off" : "switch" }, button, word);
    });
    const overlays = OVERLAY_WORDS.map(([overlay, word, there]) =>
      check(word, this.viewer.overlays.has(overlay), (on) => {
        if (on) this.viewer.overlays.add(overlay);
        else this.viewer.overlays.delete(overlay);
        this.viewer.invalidate();
      }, !there(facts)),
    );
    return section(
      "Show",
      h("fieldset", { class: "switches" }, h("legend", { class: "unseen" }, "Surface"), ...styles),
      h("fieldset", { class: "switches" }, h("legend", { class: "unseen" }, "Over it"), ...overlays),
    );
  }

  private levels(facts: Facts): HTMLElement {
    const most = Math.max(0, ...facts.assets.flatMap((asset) => asset.levels.map((one) => one.number)));
    if (!most) {
      this.viewer.level = 0;
      return h("span");
    }
    const said = h("output", {});
    const slider = h("input", { type: "range", min: 0, max: most, step: 1, value: Math.max(this.viewer.level, 0), "aria-label": "level of detail" });
    const say = (): void => {
      said.textContent = this.viewer.level < 0 ? "by distance" : this.viewer.level === 0 ? "full" : `level ${this.viewer.level}`;
      slider.setAttribute("aria-valuetext", said.textContent);
      this.viewer.invalidate();
    };
    const auto = check("by distance", this.viewer.level < 0, (on) => {
      this.viewer.level = on ? -1 : Number(slider.value);
      slider.disabled = on;
      say();
    });
    slider.disabled = this.viewer.level < 0;
    slider.addEventListener("input", () => {
      this.viewer.level = Number(slider.value);
      say();
    });
    say();
    return section("Level of detail", h("div", { class: "slider" }, slider, said), auto);
  }

  private tools(beside: "none" | "off" | "on"): HTMLElement {
    const { viewer } = this;
    const sides = SIDE_WORDS.map((side) => h("button", { type: "button", click: () => viewer.look(side) }, side));
    const measure = check("measure between two points", viewer.measuring, (on) => {
      viewer.measuring = on;
      viewer.clearMeasure();
      viewer.invalidate();
    });
    const rows: (HTMLElement | false)[] = [
      h("div", { class: "buttons" }, ...sides),
      measure,
      this.measured,
      beside !== "none" && check("before and after", this.besideOn, (on) => this.extra.beside?.(on)),
      h("p", { class: "faint" }, KEYS),
    ];
    return section("Camera", ...rows);
  }

  private findings(source: Source): HTMLElement {
    const holder = h("div", { class: "findings", "aria-live": "polite" }, h("p", { class: "faint" }, "Checking …"));
    source.findings().then(
      (found) => holder.replaceChildren(this.findingList(found)),
      (problem: Error) => holder.replaceChildren(h("p", { class: "faint" }, problem.message)),
    );
    return section("Findings", holder);
  }

  private findingList(findings: Finding[]): HTMLElement {
    if (!findings.length) return h("p", { class: "faint" }, "none");
    const row = (finding: Finding): HTMLElement => {
      const button = h("button", { type: "button", class: "finding", click: () => this.flyTo(finding) },
        h("span", { class: finding.severity }, finding.severity), " ",
        finding.where ? `${finding.where}: ` : "", finding.text);
      return h("li", {}, button, finding.mend ? h("span", { class: "faint" }, `${finding.mend} mends it`) : null);
    };
    const more = findings.length - MOST_FINDINGS;
    const rows = findings.slice(0, MOST_FINDINGS).map(row);
    return h("ul", { class: "plain" }, ...rows, more > 0 ? h("li", { class: "faint" }, `and ${more.toLocaleString("en")} more`) : null);
  }

  private flyTo(finding: Finding): void {
    const node = finding.nodes[0] ?? -1;
    this.choose(node, false);
    const box = this.facts?.nodes[node]?.box;
    if (finding.place) this.viewer.flyToPlace(finding.place);
    else if (box) this.viewer.flyTo(box);
    else this.viewer.frame();
  }

  private nodes(facts: Facts): HTMLElement {
    const depth: number[] = [];
    const rows = facts.nodes.slice(0, MOST_ROWS).map((node, number) => {
      depth[number] = node.parent < 0 ? 0 : depth[node.parent] + 1;
      const button = h("button", { type: "button", click: () => this.choose(number, true) }, node.name);
      button.style.paddingLeft = `${0.4 + 0.9 * Math.min(depth[number], 12)}rem`;
      button.dataset.node = String(number);
      const about = node.role !== "visible" ? node.role : node.kind === "mesh" || node.kind === "empty" ? "" : node.kind;
      return h("li", {}, button, about ? h("span", { class: "role" }, about) : null);
    });
    this.tree.replaceChildren(...rows);
    const more = facts.nodes.length + facts.left_out - MOST_ROWS;
    return section("Nodes", this.tree, more > 0 ? h("p", { class: "faint" }, `and ${more.toLocaleString("en")} more`) : null);
  }

  private choose(node: number, fly: boolean): void {
    this.viewer.select(node);
    this.showNode(node);
    const box = this.facts?.nodes[node]?.box;
    if (fly && box) this.viewer.flyTo(box);
  }

  private showNode(number: number): void {
    for (const one of this.tree.querySelectorAll<HTMLElement>("[aria-current]")) one.removeAttribute("aria-current");
    const node = this.facts?.nodes[number];
    if (!node) {
      this.details.replaceChildren(h("p", { class: "faint" }, "Click on something for its facts."));
      return;
    }
    const row = this.tree.querySelector<HTMLElement>(`[data-node="${number}"]`);
    row?.setAttribute("aria-current", "true");
    if (row) this.tree.scrollTop = row.offsetTop - this.tree.offsetTop - this.tree.clientHeight / 2;
    const list = h("dl");
    for (const [term, text] of nodeFacts(node)) list.append(h("dt", {}, term), h("dd", {}, text));
    this.details.replaceChildren(h("p", { class: "name" }, node.name), list);
  }

  private showMeasure(points: Vec3[]): void {
    if (points.length < 2) {
      const hint = points.length ? "Now the second point." : "Click on the first point.";
      this.measured.textContent = this.viewer.measuring ? hint : "";
      return;
    }
    const [a, b] = points;
    const [x, y, z] = [0, 1, 2].map((k) => Math.abs(b[k] - a[k]));
    this.measured.textContent = `${length(Math.hypot(x, y, z))} apart: ${length(x)} across, ${length(y)} up, ${length(z)} deep`;
  }

  private showState(triangles: number, levels: Map<string, number>): void {
    const few = [...levels].slice(0, 3).map(([name, level]) => `${name} ${level ? `level ${level}` : "full"}`);
    const words = [count(triangles, "triangle"), ...(levels.size <= 3 ? few : [])];
    this.state.textContent = words.join(", ");
    const { camera, pictures } = this.viewer;
    Object.assign(this.state.dataset, {
      triangles, pictures, eye: said(camera.place), target: said(camera.target), distance: camera.distance.toFixed(4),
    });
  }

  private notes(facts: Facts): HTMLElement {
    const said = [...this.moved, ...facts.remarks, ...facts.notes];
    if (!said.length) return h("span");
    return section("Notes", h("ul", { class: "plain notes" }, ...said.map((text) => h("li", {}, text))));
  }
}

function said(place: Vec3): string {
  return place.map((one) => one.toFixed(4)).join(" ");
}

function nodeFacts(node: NodeFacts): [string, string][] {
  const rows: [string, string][] = [["role", node.role]];
  if (node.about) rows.push(["is", node.about]);
  if (node.size) rows.push(["width × height × depth", size(node.size)]);
  if (node.faces) {
    const [triangles, quads, ngons] = node.faces;
    rows.push(["triangles", node.triangles.toLocaleString("en")]);
    rows.push(["faces", [count(triangles, "triangle"), count(quads, "quad"), count(ngons, "n-gon")].join(", ")]);
    rows.push(["points", node.points.toLocaleString("en")], ["UV sets", String(node.uvs)]);
    rows.push(["materials", node.slots.join(", ") || "none"], ["mesh", node.mesh ?? ""]);
  }
  if (node.copies > 1) rows.push(["copies", node.copies.toLocaleString("en")]);
  if (node.role === "level") {
    rows.push(["level", `${node.level}${node.distance === null ? "" : `, from ${length(node.distance)}`}`]);
  }
  rows.push(["pivot", node.pivot.map(length).join(", ")]);
  rows.push(["transform left", node.leftover.join(", ") || "none"]);
  if (!node.visible) rows.push(["hidden", "yes"]);
  return rows;
}

/** What differs between two versions of a scene: nodes by number, and words. */
export function movedBetween(before: Facts, after: Facts): { nodes: number[]; words: string[] } {
  const paths = (facts: Facts): string[] => {
    const found: string[] = [];
    const seen = new Map<string, number>();
    facts.nodes.forEach((node, n) => {
      const path = `${node.parent < 0 ? "" : found[node.parent]}/${node.name}`;
      const again = (seen.get(path) ?? 0) + 1;
      seen.set(path, again);
      found[n] = again > 1 ? `${path}\0${again}` : path;
    });
    return found;
  };
  const old = new Map(paths(before).map((path, n) => [path, before.nodes[n]]));
  const nodes: number[] = [];
  const words: string[] = [];
  paths(after).forEach((path, n) => {
    const was = old.get(path), now = after.nodes[n];
    old.delete(path);
    if (!was) words.push(`${now.name} is new`);
    else if (was.print[1] !== now.print[1]) words.push(`${now.name} has another shape`);
    else if (was.print[0] !== now.print[0]) words.push(`${now.name} moved`);
    else return;
    nodes.push(n);
  });
  for (const gone of old.values()) words.push(`${gone.name} is gone`);
  return { nodes, words: words.length > 6 ? [...words.slice(0, 5), `and ${words.length - 5} more changes`] : words };
}
