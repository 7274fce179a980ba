// A model on the graphics card: buffers, textures, and one item for each part of a node that is drawn.

import * as twgl from "twgl.js";
import type { Facts, Source, Vec3 } from "./facts";
import { parse, type Attribute, type MaterialData, type Model, type Primitive, type TextureUse } from "./glb";
import { LOCATIONS } from "./shaders";

type GL = WebGL2RenderingContext;

/** One primitive of one node, in all its places. */
export interface Item {
  look: number;
  role: string;
  material: number;
  vertices: WebGLVertexArrayObject;
  indices: { count: number; type: number; offset: number };
  copies: number;
  triangles: number;
  middle: Vec3; // of its first copy
  primitive: Primitive;
  worlds: WebGLBuffer;
  firstEdge: number; // in the table of edges, -1 where it has none
}

export interface Lines {
  vertices: WebGLVertexArrayObject;
  first: number[]; // where each kind of edge begins, and where the last ends
  type: number;
  bytes: number;
}

const ATTRIBUTES: Record<string, number> = {
  POSITION: LOCATIONS.a_position,
  NORMAL: LOCATIONS.a_normal,
  TANGENT: LOCATIONS.a_tangent,
  TEXCOORD_0: LOCATIONS.a_uv0,
  TEXCOORD_1: LOCATIONS.a_uv1,
  COLOR_0: LOCATIONS.a_color,
};
const KINDS = 4; // of edges
const CLAY: MaterialData = {
  color: [0.55, 0.52, 0.44, 1], metallic: 0, roughness: 0.9, emissive: [0, 0, 0], alpha: "OPAQUE", cutoff: 0.5,
  twoSided: false, unlit: false, maps: {},
};

export class Loaded {
  readonly items: Item[] = [];
  readonly materials: MaterialData[];
  private buffers = new Map<number, WebGLBuffer>();
  private textures: WebGLTexture[] = [];
  private arrays: WebGLVertexArrayObject[] = [];
  private others: WebGLBuffer[] = [];
  private lines = new Map<Primitive, Map<WebGLBuffer, Lines>>();
  private lineIndices = new Map<Primitive, { buffer: WebGLBuffer; first: number[] }>();
  private edges: Uint8Array | null = null;
  private model: Model;

  private constructor(private gl: GL, readonly source: Source, model: Model, private changed: () => void) {
    this.model = model;
    this.materials = model.materials;
    this.textures = model.textures.map((one) => this.texture(one.bytes, one.mime, one.wrap, one.magnify));
    const worlds = new Map<Float32Array, WebGLBuffer>();
    for (const placed of model.placed) {
      const mesh = model.meshes[placed.mesh];
      const buffer = worlds.get(placed.worlds) ?? this.buffer(gl.ARRAY_BUFFER, placed.worlds);
      worlds.set(placed.worlds, buffer);
      const facts = source.facts.nodes[placed.look];
      let edge = mesh.edges;
      for (const primitive of mesh.primitives) {
        const triangles = primitive.indices.count / 3;
        this.items.push({
          look: placed.look,
          role: facts?.role ?? "visible",
          material: primitive.material,
          vertices: this.vertexArray(primitive, buffer, this.view(primitive.indices.view, gl.ELEMENT_ARRAY_BUFFER)),
          indices: { count: primitive.indices.count, type: primitive.indices.type, offset: primitive.indices.offset },
          copies: placed.worlds.length / 16,
          triangles: (triangles * placed.worlds.length) / 16,
          middle: [placed.worlds[12], placed.worlds[13], placed.worlds[14]],
          primitive,
          worlds: buffer,
          firstEdge: edge,
        });
        if (edge >= 0) edge += triangles;
      }
    }
  }

  static async load(gl: GL, source: Source, changed: () => void): Promise<Loaded> {
    const data = await source.model();
    const empty: Model = { views: [], meshes: [], placed: [], materials: [], textures: [] };
    return new Loaded(gl, source, data.byteLength ? parse(data, source.facts.plain) : empty, changed);
  }

  get facts(): Facts {
    return this.source.facts;
  }

  material(item: Item): MaterialData {
    return this.materials[item.material] ?? CLAY;
  }

  textureOf(use: TextureUse | undefined): WebGLTexture | null {
    return use ? (this.textures[use.texture] ?? null) : null;
  }

  /** The polygons' edges of an item; null until they are there. */
  edgesOf(item: Item): Lines | null {
    if (!this.edges) {
      void this.fetchEdges();
      return null;
    }
    let own = this.lines.get(item.primitive);
    if (!own) this.lines.set(item.primitive, (own = new Map()));
    let found = own.get(item.worlds);
    if (!found) {
      let indices = this.lineIndices.get(item.primitive);
      if (!indices) this.lineIndices.set(item.primitive, (indices = this.linesOf(item, this.edges)));
      const wide = item.indices.type === this.gl.UNSIGNED_INT;
      found = {
        vertices: this.vertexArray(item.primitive, item.worlds, indices.buffer),
        first: indices.first,
        type: item.indices.type,
        bytes: wide ? 4 : 2,
      };
      own.set(item.worlds, found);
    }
    return found;
  }

  private asked = false;

  private async fetchEdges(): Promise<void> {
    if (this.asked) return;
    this.asked = true;
    this.edges = new Uint8Array(await this.source.edges());
    this.changed();
  }

  /** Pairs of vertices for each kind of edge, one kind after the other. */
  private linesOf(item: Item, edges: Uint8Array): { buffer: WebGLBuffer; first: number[] } {
    const view = this.model.views[item.primitive.indices.view];
    const { type, offset, count } = item.primitive.indices;
    const Kind = type === this.gl.UNSIGNED_INT ? Uint32Array : Uint16Array;
    const index = new Kind(view.buffer, view.byteOffset + offset, count);
    const start = 3 * item.firstEdge;
    const known = item.firstEdge >= 0 && start + count <= edges.length;
    const kindOf = (k: number): number => (known ? edges[start + k] : 1);
    const first = new Array<number>(KINDS + 2).fill(0);
    for (let k = 0; k < count; k++) if (kindOf(k)) first[kindOf(k) + 1] += 2;
    for (let kind = 1; kind < first.length; kind++) first[kind] += first[kind - 1];
    const out = new Kind(first[KINDS + 1]);
    const at = first.slice();
    for (let k = 0; k < count; k++) {
      const kind = kindOf(k);
      if (!kind) continue;
      out[at[kind]++] = index[k];
      out[at[kind]++] = index[k % 3 === 2 ? k - 2 : k + 1];
    }
    return { buffer: this.buffer(this.gl.ELEMENT_ARRAY_BUFFER, out), first: first.slice(1) };
  }

  private vertexArray(primitive: Primitive, worlds: WebGLBuffer, indices: WebGLBuffer): WebGLVertexArrayObject {
    const gl = this.gl;
    const given = Object.entries(ATTRIBUTES).flatMap(([name, location]): [number, Attribute, WebGLBuffer][] => {
      const one: Attribute | undefined = primitive.attributes[name];
      return one ? [[location, one, this.view(one.view, gl.ARRAY_BUFFER)]] : [];
    });
    const array = gl.createVertexArray()!;
    gl.bindVertexArray(array);
    for (const [location, one, buffer] of given) {
      gl.bindBuffer(gl.ARRAY_BUFFER, buffer);
      gl.enableVertexAttribArray(location);
      gl.vertexAttribPointer(location, one.size, one.type, one.normalized, one.stride, one.offset);
    }
    placeCopies(gl, worlds);
    gl.bindBuffer(gl.ELEMENT_ARRAY_BUFFER, indices);
    gl.bindVertexArray(null);
    this.arrays.push(array);
    return array;
  }

  private view(number: number, target: number): WebGLBuffer {
    let buffer = this.buffers.get(number);
    if (!buffer) {
      buffer = this.gl.createBuffer()!;
      this.gl.bindVertexArray(null); // which would remember a buffer of indices
      this.gl.bindBuffer(target, buffer);
      this.gl.bufferData(target, this.model.views[number], this.gl.STATIC_DRAW);
      this.buffers.set(number, buffer);
    }
    return buffer;
  }

  private buffer(target: number, data: ArrayBufferView): WebGLBuffer {
    this.gl.bindVertexArray(null);
    const buffer = twgl.createBufferFromTypedArray(this.gl, data as Float32Array, target)!;
    this.others.push(buffer);
    return buffer;
  }

  private texture(
    bytes: Uint8Array<ArrayBuffer>, mime: string, wrap: [number, number], magnify: number,
  ): WebGLTexture {
    const gl = this.gl;
    const texture = twgl.createTexture(gl, { src: [160, 150, 130, 255], width: 1, height: 1 });
    createImageBitmap(new Blob([bytes], { type: mime }), { premultiplyAlpha: "none", colorSpaceConversion: "none" })
      .then((image) => {
        gl.bindTexture(gl.TEXTURE_2D, texture);
        gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, gl.RGBA, gl.UNSIGNED_BYTE, image);
        gl.generateMipmap(gl.TEXTURE_2D);
        gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_MIN_FILTER, gl.LINEAR_MIPMAP_LINEAR);
        gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_MAG_FILTER, magnify);
        gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_WRAP_S, wrap[0]);
        gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_WRAP_T, wrap[1]);
        image.close();
        this.changed();
      })
      .catch(() => undefined); // of a kind that the browser cannot show: it stays plain
    return texture;
  }

  free(): void {
    const gl = this.gl;
    for (const one of [...this.buffers.values(), ...this.others]) gl.deleteBuffer(one);
    for (const one of this.arrays) gl.deleteVertexArray(one);
    for (const one of this.textures) gl.deleteTexture(one);
  }
}

/** Let the bound vertex array take a matrix for each copy from a buffer. */
export function placeCopies(gl: GL, worlds: WebGLBuffer): void {
  gl.bindBuffer(gl.ARRAY_BUFFER, worlds);
  for (let column = 0; column < 4; column++) {
    const location = LOCATIONS.a_world + column;
    gl.enableVertexAttribArray(location);
    gl.vertexAttribPointer(location, 4, gl.FLOAT, false, 64, 16 * column);
    gl.vertexAttribDivisor(location, 1);
  }
}
