// One picture of a model: surfaces, lines, and everything that lies over them.

import * as twgl from "twgl.js";
import type { Camera } from "./camera";
import type { Box, Facts, Vec3 } from "./facts";
import type { MaterialData, TextureUse } from "./glb";
import { Loaded, placeCopies, type Item } from "./model";
import {
  FLAT_FRAGMENT, FLAT_VERTEX, LOCATIONS, PICK_FRAGMENT, STYLES, SURFACE_FRAGMENT, SURFACE_VERTEX, type Style,
} from "./shaders";

type GL = WebGL2RenderingContext;
export type Color = [number, number, number, number];

export const OVERLAYS = [
  "edges", "collision", "footing", "shadow", "bounds", "pivot", "axes", "grid", "figure",
] as const;
export type Overlay = (typeof OVERLAYS)[number];

export interface Wanted {
  style: Style;
  overlays: Set<Overlay>;
  shown: Set<number>; // nodes whose surface is drawn
  marked: Set<number>; // nodes with a box about them
  selected: number;
  points: Vec3[]; // that are measured between
  dark: boolean;
}

export interface Rect {
  x: number;
  y: number;
  wide: number;
  high: number;
}

const PAPER: Color = [0.957, 0.945, 0.91, 1];
const NIGHT: Color = [0.075, 0.11, 0.1, 1];
const INK: Color = [0.13, 0.2, 0.18, 1];
const REED: Color = [0.373, 0.561, 0.42, 1];
const RIVER: Color = [0.184, 0.427, 0.447, 1];
const LAMP: Color = [0.851, 0.541, 0.169, 1];
const PLUM: Color = [0.541, 0.294, 0.431, 1];
const PALE: Color = [0.86, 0.88, 0.85, 1];
export const AXIS_COLORS: [Color, Color, Color] = [LAMP, REED, RIVER];
const SLOTS: Vec3[] = [
  [0.37, 0.56, 0.42], [0.85, 0.54, 0.17], [0.18, 0.43, 0.45], [0.54, 0.29, 0.43], [0.73, 0.71, 0.64], [0.62, 0.3, 0.2],
  [0.3, 0.38, 0.6], [0.75, 0.68, 0.3], [0.45, 0.6, 0.7], [0.35, 0.3, 0.25],
];
const UNIT = new Float32Array([1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1]);
const EDGES: [number, number][] = [
  [0, 1], [2, 3], [4, 5], [6, 7], [0, 2], [1, 3], [4, 6], [5, 7], [0, 4], [1, 5], [2, 6], [3, 7],
];

export function faded(color: Color, alpha: number): Color {
  return [color[0], color[1], color[2], alpha];
}

/** A tenth of the size, rounded down to a power of ten: 1 for a thing of 10 to 100 metres. */
export function gridStep(span: number): number {
  return 10 ** Math.floor(Math.log10(Math.max(span, 1e-6) / 2));
}

export class Drawing {
  private surface: twgl.ProgramInfo;
  private flat: twgl.ProgramInfo;
  private pick: twgl.ProgramInfo;
  private loose: { array: WebGLVertexArrayObject; places: WebGLBuffer; colors: WebGLBuffer };
  private pale: WebGLTexture;
  private target: WebGLFramebuffer;
  private asked = new WeakSet<Loaded>();
  private footings = new WeakMap<Loaded, Float32Array>();
  triangles = 0; // of the scene that was drawn last

  constructor(private gl: GL, private changed: () => void) {
    const locations = { attribLocations: LOCATIONS as unknown as Record<string, number> };
    this.surface = twgl.createProgramInfo(gl, [SURFACE_VERTEX, SURFACE_FRAGMENT], locations);
    this.flat = twgl.createProgramInfo(gl, [FLAT_VERTEX, FLAT_FRAGMENT], locations);
    this.pick = twgl.createProgramInfo(gl, [FLAT_VERTEX, PICK_FRAGMENT], locations);
    this.pale = twgl.createTexture(gl, { src: [255, 255, 255, 255], width: 1, height: 1 });
    this.loose = { array: gl.createVertexArray()!, places: gl.createBuffer()!, colors: gl.createBuffer()! };
    gl.bindVertexArray(this.loose.array);
    for (const [buffer, location, size] of [
      [this.loose.places, LOCATIONS.a_position, 3], [this.loose.colors, LOCATIONS.a_color, 4],
    ] as const) {
      gl.bindBuffer(gl.ARRAY_BUFFER, buffer);
      gl.enableVertexAttribArray(location);
      gl.vertexAttribPointer(location, size, gl.FLOAT, false, 0, 0);
    }
    placeCopies(gl, twgl.createBufferFromTypedArray(gl, UNIT, gl.ARRAY_BUFFER)!);
    gl.bindVertexArray(null);
    gl.vertexAttrib4f(LOCATIONS.a_color, 1, 1, 1, 1);
    gl.vertexAttrib4f(LOCATIONS.a_tangent, 0, 0, 0, 1);
    gl.vertexAttrib4f(LOCATIONS.a_normal, 0, 0, 0, 0);
    this.target = gl.createFramebuffer()!;
    gl.bindFramebuffer(gl.FRAMEBUFFER, this.target);
    const numbers = twgl.createTexture(gl, {
      internalFormat: gl.RGBA32UI, width: 1, height: 1, minMag: gl.NEAREST, auto: false,
    });
    gl.framebufferTexture2D(gl.FRAMEBUFFER, gl.COLOR_ATTACHMENT0, gl.TEXTURE_2D, numbers, 0);
    const depths = gl.createRenderbuffer()!;
    gl.bindRenderbuffer(gl.RENDERBUFFER, depths);
    gl.renderbufferStorage(gl.RENDERBUFFER, gl.DEPTH_COMPONENT24, 1, 1);
    gl.framebufferRenderbuffer(gl.FRAMEBUFFER, gl.DEPTH_ATTACHMENT, gl.RENDERBUFFER, depths);
    gl.bindFramebuffer(gl.FRAMEBUFFER, null);
  }

  /** Begin a picture. */
  clear(): void {
    const { gl } = this;
    this.triangles = 0;
    gl.disable(gl.SCISSOR_TEST);
    gl.clearColor(0.5, 0.55, 0.52, 1); // of the line between two scenes
    gl.clear(gl.COLOR_BUFFER_BIT);
  }

  draw(model: Loaded, camera: Camera, rect: Rect, wanted: Wanted): void {
    const gl = this.gl;
    gl.enable(gl.SCISSOR_TEST);
    gl.viewport(rect.x, rect.y, rect.wide, rect.high);
    gl.scissor(rect.x, rect.y, rect.wide, rect.high);
    const paper = wanted.dark ? NIGHT : PAPER;
    gl.clearColor(paper[0], paper[1], paper[2], 1);
    gl.clear(gl.COLOR_BUFFER_BIT | gl.DEPTH_BUFFER_BIT);
    gl.enable(gl.DEPTH_TEST);
    gl.disable(gl.CULL_FACE);
    const space = { u_view: camera.view, u_projection: camera.projection(rect.wide / rect.high) };
    const ink = wanted.dark ? PALE : INK;
    if (wanted.overlays.has("grid")) this.grid(model, space, ink);
    const seen = model.items.filter((item) => wanted.shown.has(item.look));
    this.triangles = seen.reduce((sum, item) => sum + item.triangles, 0);
    this.surfaces(model, seen, camera, space, wanted);
    if (wanted.overlays.has("edges") || wanted.style === "wire") this.edges(model, seen, space, wanted);
    if (wanted.overlays.has("footing")) this.footing(model, space);
    if (wanted.overlays.has("bounds")) this.veil(model, "bounds", faded(RIVER, 0.15), space);
    if (wanted.overlays.has("shadow")) this.veil(model, "shadow", faded(PLUM, 0.4), space);
    if (wanted.overlays.has("collision")) this.veil(model, "collision", faded(REED, 0.42), space);
    if (wanted.overlays.has("figure")) this.figure(model, camera, space, ink);
    this.over(model, space, wanted, ink);
  }

  private surfaces(
    model: Loaded, items: Item[], camera: Camera, space: Record<string, Float32Array>, wanted: Wanted,
  ): void {
    const gl = this.gl;
    gl.useProgram(this.surface.program);
    const whole = (item: Item): boolean => model.material(item).alpha !== "BLEND";
    gl.enable(gl.POLYGON_OFFSET_FILL);
    gl.polygonOffset(1, 2);
    for (const item of items.filter(whole)) this.surfaceOf(model, item, space, wanted);
    const view = camera.view;
    const depth = (item: Item): number =>
      view[2] * item.middle[0] + view[6] * item.middle[1] + view[10] * item.middle[2];
    gl.enable(gl.BLEND);
    gl.blendFunc(gl.ONE, gl.ONE_MINUS_SRC_ALPHA);
    for (const item of items.filter((one) => !whole(one)).sort((a, b) => depth(a) - depth(b))) {
      this.surfaceOf(model, item, space, wanted);
    }
    gl.disable(gl.BLEND);
    gl.disable(gl.POLYGON_OFFSET_FILL);
  }

  private surfaceOf(model: Loaded, item: Item, space: Record<string, Float32Array>, wanted: Wanted): void {
    const material = model.material(item);
    const clay = wanted.overlays.has("footing");
    const slot = SLOTS[Math.max(item.material, 0) % SLOTS.length];
    twgl.setUniforms(this.surface, {
      ...space,
      ...this.materialUniforms(model, material, clay),
      u_style: STYLES.indexOf(wanted.style),
      u_slot: slot,
      u_colored: item.primitive.attributes.COLOR_0 !== undefined && !clay,
      u_tint: item.look === wanted.selected ? faded(LAMP, 0.35) : faded(LAMP, 0),
    });
    this.triangleCopies(item);
  }

  private materialUniforms(model: Loaded, material: MaterialData, clay: boolean): Record<string, unknown> {
    const { maps } = material;
    const map = (key: keyof typeof maps): WebGLTexture => model.textureOf(maps[key]) ?? this.pale;
    return {
      u_color: clay ? [0.5, 0.47, 0.38, 1] : material.color,
      u_metallic: clay ? 0 : material.metallic,
      u_roughness: clay ? 1 : material.roughness,
      u_emissive: clay ? [0, 0, 0] : material.emissive,
      u_alpha: clay ? 0 : ["OPAQUE", "MASK", "BLEND"].indexOf(material.alpha),
      u_cutoff: material.cutoff,
      u_two_sided: material.twoSided,
      u_unlit: material.unlit && !clay,
      u_has: [maps.color, maps.normal, maps.surface, maps.occlusion].map((one) => Number(!!one && !clay)),
      u_glows: Number(!!maps.emissive && !clay),
      u_color_map: map("color"), u_normal_map: map("normal"), u_surface_map: map("surface"),
      u_occlusion_map: map("occlusion"), u_emissive_map: map("emissive"),
      u_color_uv: placing(maps.color), u_normal_uv: placing(maps.normal), u_surface_uv: placing(maps.surface),
      u_occlusion_uv: placing(maps.occlusion), u_emissive_uv: placing(maps.emissive),
      u_sets: [maps.color, maps.normal, maps.surface, maps.occlusion].map((one) => one?.set ?? 0),
      u_emissive_set: maps.emissive?.set ?? 0,
      u_normal_strength: maps.normal?.strength ?? 1,
      u_occlusion_strength: maps.occlusion?.strength ?? 1,
    };
  }

  private triangleCopies(item: Item): void {
    const gl = this.gl;
    gl.bindVertexArray(item.vertices);
    const { count, type, offset } = item.indices;
    gl.drawElementsInstanced(gl.TRIANGLES, count, type, offset, item.copies);
    gl.bindVertexArray(null);
  }

  /** Edges of polygons as pictures have them: hard ones dark, seams in river, open borders in lamplight. */
  private edges(model: Loaded, items: Item[], space: Record<string, Float32Array>, wanted: Wanted): void {
    const gl = this.gl;
    const plain = wanted.style === "wire" ? INK : wanted.dark ? PALE : PAPER;
    const colors: Color[] = [faded(plain, 0.45), faded(plain, 1), RIVER, LAMP];
    this.start(space, 0.00002);
    for (const item of items) {
      const lines = model.edgesOf(item);
      if (!lines) continue;
      gl.bindVertexArray(lines.vertices);
      colors.forEach((color, kind) => {
        const first = lines.first[kind], last = lines.first[kind + 1];
        if (last === first) return;
        twgl.setUniforms(this.flat, { u_color: color });
        gl.disableVertexAttribArray(LOCATIONS.a_color);
        gl.drawElementsInstanced(gl.LINES, last - first, lines.type, first * lines.bytes, item.copies);
      });
    }
    gl.bindVertexArray(null);
    gl.disable(gl.BLEND);
  }

  /** Meshes of a role over everything, see-through, with their edges. */
  private veil(model: Loaded, role: string, color: Color, space: Record<string, Float32Array>): void {
    const gl = this.gl;
    const items = model.items.filter((one) => one.role === role);
    if (!items.length) return;
    this.start(space, 0.0001);
    gl.depthMask(false);
    twgl.setUniforms(this.flat, { u_color: color, u_shaded: true });
    for (const item of items) this.triangleCopies(item);
    gl.depthMask(true);
    twgl.setUniforms(this.flat, { u_color: faded(color, 0.95), u_shaded: false, u_nearer: 0.0002 });
    for (const item of items) {
      const lines = model.edgesOf(item);
      if (!lines) continue;
      gl.bindVertexArray(lines.vertices);
      const [first, last] = [lines.first[0], lines.first[lines.first.length - 1]];
      gl.drawElementsInstanced(gl.LINES, last - first, lines.type, first * lines.bytes, item.copies);
    }
    gl.bindVertexArray(null);
    gl.disable(gl.BLEND);
  }

  /** How far feet float and sink at most, and whether they fall through anywhere; null while nobody knows. */
  footingOf(model: Loaded): { floats: number; sinks: number; falls: boolean; places: number } | null {
    const rows = this.footings.get(model);
    if (!rows) return null;
    const found = { floats: 0, sinks: 0, falls: false, places: rows.length / 4 };
    for (let k = 3; k < rows.length; k += 4) {
      if (isNaN(rows[k])) found.falls = true;
      else if (rows[k] > found.floats) found.floats = rows[k];
      else if (-rows[k] > found.sinks) found.sinks = -rows[k];
    }
    return found;
  }

  /** Places one can stand on: paper where feet stand, lamplight where they float, river where they sink. */
  private footing(model: Loaded, space: Record<string, Float32Array>): void {
    const rows = this.footings.get(model);
    if (!rows) {
      if (this.asked.has(model)) return;
      this.asked.add(model);
      void model.source.footing().then((data) => {
        this.footings.set(model, new Float32Array(data));
        this.changed();
      });
      return;
    }
    const places: number[] = [], colors: number[] = [];
    const { floats, sinks } = this.footingOf(model)!;
    const reach = Math.max(floats, sinks, 0.01);
    for (let k = 0; k < rows.length; k += 4) {
      const share = Math.max(-1, Math.min(1, rows[k + 3] / reach));
      const end = share > 0 ? LAMP : RIVER;
      const mix = (c: number): number => 0.93 + (end[c] - 0.93) * Math.sqrt(Math.abs(share));
      places.push(rows[k], rows[k + 1], rows[k + 2]);
      colors.push(...(isFinite(rows[k + 3]) ? [mix(0), mix(1), mix(2), 1] : PLUM));
    }
    this.start(space, 0.0003);
    twgl.setUniforms(this.flat, { u_color: [1, 1, 1, 1], u_dot: 5 * devicePixelRatio });
    this.put(places, colors, this.gl.POINTS);
    this.gl.disable(this.gl.BLEND);
  }

  private grid(model: Loaded, space: Record<string, Float32Array>, ink: Color): void {
    const box = model.facts.bounds ?? [[-1, 0, -1], [1, 1, 1]];
    const span = Math.max(...[0, 1, 2].map((k) => box[1][k] - box[0][k]), 1e-3);
    const step = gridStep(span);
    const low = [0, 2].map((k) => (Math.floor(box[0][k] / step) - 2) * step);
    const high = [0, 2].map((k) => (Math.ceil(box[1][k] / step) + 2) * step);
    const y = box[0][1];
    const lines: number[] = [];
    for (let x = low[0]; x <= high[0] + step / 2; x += step) lines.push(x, y, low[1], x, y, high[1]);
    for (let z = low[1]; z <= high[1] + step / 2; z += step) lines.push(low[0], y, z, high[0], y, z);
    this.lines(lines, faded(ink, 0.22), space, 0);
  }

  /** A flat person 1.8 m tall, beside what is shown, who faces us. */
  private figure(model: Loaded, camera: Camera, space: Record<string, Float32Array>, ink: Color): void {
    const foot = figurePlace(model.facts);
    if (!foot) return;
    const right = [Math.cos(camera.yaw), -Math.sin(camera.yaw)];
    const at = (x: number, y: number): number[] => [foot[0] + right[0] * x, foot[1] + y, foot[2] + right[1] * x];
    const corners: number[] = [];
    const fan = (outline: [number, number][]): void => {
      for (let k = 1; k + 1 < outline.length; k++) {
        for (const [x, y] of [outline[0], outline[k], outline[k + 1]]) corners.push(...at(x, y));
      }
    };
    fan(Array.from({ length: 20 }, (_, k) => [0.11 * Math.cos((k * Math.PI) / 10), 1.67 + 0.13 * Math.sin((k * Math.PI) / 10)]));
    for (const side of [1, -1]) {
      fan([[0, 1.48], [0.21 * side, 1.46], [0.15 * side, 1.2], [0.15 * side, 0.8], [0, 0.8]]);
      fan([[0.21 * side, 1.46], [0.26 * side, 0.86], [0.2 * side, 0.84], [0.15 * side, 1.2]]);
      fan([[0.01 * side, 0.82], [0.15 * side, 0.82], [0.16 * side, 0], [0.03 * side, 0]]);
    }
    this.start(space, 0);
    twgl.setUniforms(this.flat, { u_color: faded(ink, 0.8) });
    this.put(corners, [], this.gl.TRIANGLES);
    this.gl.disable(this.gl.BLEND);
  }

  /** Lines that are seen through everything. */
  private over(model: Loaded, space: Record<string, Float32Array>, wanted: Wanted, ink: Color): void {
    const gl = this.gl;
    const { facts } = model;
    gl.disable(gl.DEPTH_TEST);
    if (wanted.overlays.has("bounds")) {
      this.boxes([...wanted.shown].map((number) => facts.nodes[number]?.box), faded(RIVER, 0.8), space);
    }
    this.boxes([...wanted.marked].map((number) => facts.nodes[number]?.box), PLUM, space);
    this.boxes([facts.nodes[wanted.selected]?.box], LAMP, space);
    const span = spanOf(facts.bounds);
    if (wanted.overlays.has("pivot")) {
      const size = 0.03 * span;
      AXIS_COLORS.forEach((color, axis) => {
        const lines: number[] = [];
        for (const number of wanted.shown) {
          const pivot = facts.nodes[number]?.pivot;
          if (!pivot) continue;
          for (const side of [-1, 1]) {
            const end: Vec3 = [...pivot];
            end[axis] += side * size;
            lines.push(...end);
          }
        }
        this.lines(lines, color, space, 0);
      });
    }
    if (wanted.overlays.has("axes")) {
      facts.directions.forEach((way, axis) => {
        this.lines([0, 0, 0, ...way.map((part) => part * 0.35 * span)], AXIS_COLORS[axis], space, 0);
      });
    }
    if (wanted.points.length === 2) this.lines(wanted.points.flat(), PLUM, space, 0);
    if (wanted.points.length) {
      this.start(space, 0);
      twgl.setUniforms(this.flat, { u_color: wanted.dark ? ink : PLUM, u_dot: 9 * devicePixelRatio });
      this.put(wanted.points.flat(), [], gl.POINTS);
      gl.disable(gl.BLEND);
    }
    gl.enable(gl.DEPTH_TEST);
  }

  private boxes(boxes: (Box | null | undefined)[], color: Color, space: Record<string, Float32Array>): void {
    const ends: number[] = [];
    for (const box of boxes) {
      if (!box) continue;
      const corner = (n: number): Vec3 => [box[n & 1][0], box[(n >> 1) & 1][1], box[(n >> 2) & 1][2]];
      for (const [from, to] of EDGES) ends.push(...corner(from), ...corner(to));
    }
    this.lines(ends, color, space, 0);
  }

  private lines(ends: number[], color: Color, space: Record<string, Float32Array>, nearer: number): void {
    this.start(space, nearer);
    twgl.setUniforms(this.flat, { u_color: color });
    this.put(ends, [], this.gl.LINES);
    this.gl.disable(this.gl.BLEND);
  }

  private start(space: Record<string, Float32Array>, nearer: number): void {
    const gl = this.gl;
    gl.useProgram(this.flat.program);
    gl.enable(gl.BLEND);
    gl.blendFunc(gl.ONE, gl.ONE_MINUS_SRC_ALPHA);
    twgl.setUniforms(this.flat, { ...space, u_nearer: nearer, u_dot: 1, u_shaded: false });
  }

  private put(places: number[], colors: number[], kind: number): void {
    const gl = this.gl;
    if (!places.length) return;
    gl.bindVertexArray(this.loose.array);
    gl.bindBuffer(gl.ARRAY_BUFFER, this.loose.places);
    gl.bufferData(gl.ARRAY_BUFFER, new Float32Array(places), gl.DYNAMIC_DRAW);
    if (colors.length) {
      gl.enableVertexAttribArray(LOCATIONS.a_color);
      gl.bindBuffer(gl.ARRAY_BUFFER, this.loose.colors);
      gl.bufferData(gl.ARRAY_BUFFER, new Float32Array(colors), gl.DYNAMIC_DRAW);
    } else {
      gl.disableVertexAttribArray(LOCATIONS.a_color);
    }
    gl.drawArraysInstanced(kind, 0, places.length / 3, 1);
    gl.bindVertexArray(null);
  }

  /** The node at a pixel and how deep it is there; null where there is none. */
  at(model: Loaded, camera: Camera, x: number, y: number, rect: Rect, shown: Set<number>): [number, number] | null {
    const gl = this.gl;
    gl.bindFramebuffer(gl.FRAMEBUFFER, this.target);
    gl.disable(gl.SCISSOR_TEST);
    gl.viewport(-x, -y, rect.wide, rect.high);
    gl.clearBufferuiv(gl.COLOR, 0, [0, 0, 0, 0]);
    gl.clearBufferfi(gl.DEPTH_STENCIL, 0, 1, 0);
    gl.clear(gl.DEPTH_BUFFER_BIT);
    gl.enable(gl.DEPTH_TEST);
    gl.useProgram(this.pick.program);
    const space = { u_view: camera.view, u_projection: camera.projection(rect.wide / rect.high), u_nearer: 0, u_dot: 1 };
    twgl.setUniforms(this.pick, space);
    for (const item of model.items) {
      if (!shown.has(item.look)) continue;
      twgl.setUniforms(this.pick, { u_number: item.look + 1 });
      this.triangleCopies(item);
    }
    const found = new Uint32Array(4);
    gl.readPixels(0, 0, 1, 1, gl.RGBA_INTEGER, gl.UNSIGNED_INT, found);
    gl.bindFramebuffer(gl.FRAMEBUFFER, null);
    if (!found[0]) return null;
    return [found[0] - 1, new Float32Array(found.buffer, 4, 1)[0]];
  }
}

/** Where the figure of known height stands; null beside what is far larger or smaller, or has no unit. */
export function figurePlace(facts: Facts): Vec3 | null {
  const { bounds, unit } = facts;
  const span = spanOf(bounds);
  if (!bounds || unit === null || span < 0.6 || span > 60) return null;
  return [bounds[1][0] + 0.45 + 0.05 * span, bounds[0][1], bounds[0][2] + 0.2 * (bounds[1][2] - bounds[0][2])];
}

export function spanOf(bounds: Box | null): number {
  return bounds ? Math.max(...[0, 1, 2].map((k) => bounds[1][k] - bounds[0][k]), 1e-6) : 1;
}

export const FIGURE_HEIGHT = 1.8; // metres

/** The matrix that places a texture (KHR_texture_transform). */
function placing(use: TextureUse | undefined): number[] {
  if (!use) return [1, 0, 0, 0, 1, 0, 0, 0, 1];
  const c = Math.cos(use.rotation), s = Math.sin(use.rotation);
  return [c * use.scale[0], -s * use.scale[0], 0, s * use.scale[1], c * use.scale[1], 0, use.offset[0], use.offset[1], 1];
}
