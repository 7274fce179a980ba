// The part of glTF 2.0 that our writer makes: buffers in one file, quantized attributes, instances, and materials.

import { m4 } from "twgl.js";

export interface Attribute {
  view: number;
  offset: number;
  stride: number;
  size: number;
  type: number;
  normalized: boolean;
}

export interface Primitive {
  attributes: Record<string, Attribute>;
  indices: { view: number; offset: number; type: number; count: number };
  material: number;
}

export interface MeshData {
  primitives: Primitive[];
  edges: number; // the first of its triangles in the table of edges, -1 where it has none
}

export interface Placed {
  look: number;
  mesh: number;
  worlds: Float32Array; // 16 numbers for each copy
}

export interface TextureUse {
  texture: number;
  set: number;
  offset: [number, number];
  scale: [number, number];
  rotation: number;
  strength: number;
}

export interface MaterialData {
  color: [number, number, number, number];
  metallic: number;
  roughness: number;
  emissive: [number, number, number];
  alpha: "OPAQUE" | "MASK" | "BLEND";
  cutoff: number;
  twoSided: boolean;
  unlit: boolean;
  maps: Partial<Record<"color" | "normal" | "surface" | "occlusion" | "emissive", TextureUse>>;
}

export interface TextureData {
  bytes: Uint8Array<ArrayBuffer>;
  mime: string;
  wrap: [number, number];
  magnify: number;
}

export interface Model {
  views: Uint8Array<ArrayBuffer>[];
  meshes: MeshData[];
  placed: Placed[];
  materials: MaterialData[];
  textures: TextureData[];
}

const MAGIC = 0x46546c67;
const JSON_CHUNK = 0x4e4f534a;
const SIZES: Record<string, number> = { SCALAR: 1, VEC2: 2, VEC3: 3, VEC4: 4 };
const BYTES: Record<number, number> = { 5120: 1, 5121: 1, 5122: 2, 5123: 2, 5125: 4, 5126: 4 };
const REPEAT = 10497;
const LINEAR = 9729;

// As it comes from a file of ours.
type Json = any;

/** Take a file apart; nothing in it is copied. The nodes of a plain one are those of the scene, in the same order. */
export function parse(data: ArrayBuffer, plain = false): Model {
  const head = new DataView(data);
  if (data.byteLength < 20 || head.getUint32(0, true) !== MAGIC) throw new Error("not a GLB file");
  const jsonLength = head.getUint32(12, true);
  if (head.getUint32(16, true) !== JSON_CHUNK) throw new Error("a GLB file without a description");
  const json: Json = JSON.parse(new TextDecoder().decode(new Uint8Array(data, 20, jsonLength)));
  const start = 20 + jsonLength + 8;
  const views = (json.bufferViews ?? []).map(
    (view: Json) => new Uint8Array(data, start + (view.byteOffset ?? 0), view.byteLength),
  );
  return {
    views,
    meshes: (json.meshes ?? []).map((mesh: Json) => meshOf(mesh, json, plain)),
    placed: placedIn(json, views, plain),
    materials: (json.materials ?? []).map(materialOf),
    textures: (json.textures ?? []).map((texture: Json) => textureOf(texture, json, views)),
  };
}

function meshOf(mesh: Json, json: Json, plain: boolean): MeshData {
  const primitives = mesh.primitives.map((one: Json): Primitive => {
    const attributes: Record<string, Attribute> = {};
    for (const [name, number] of Object.entries(one.attributes)) {
      const accessor = json.accessors[number as number];
      const size = SIZES[accessor.type];
      attributes[name] = {
        view: accessor.bufferView,
        offset: accessor.byteOffset ?? 0,
        stride: json.bufferViews[accessor.bufferView].byteStride ?? size * BYTES[accessor.componentType],
        size,
        type: accessor.componentType,
        normalized: accessor.normalized ?? false,
      };
    }
    const index = json.accessors[one.indices];
    return {
      attributes,
      indices: {
        view: index.bufferView,
        offset: index.byteOffset ?? 0,
        type: index.componentType,
        count: index.count,
      },
      material: one.material ?? -1,
    };
  });
  return { primitives, edges: plain ? -1 : (mesh.extras?.edges ?? -1) };
}

function placedIn(json: Json, views: Uint8Array<ArrayBuffer>[], plain: boolean): Placed[] {
  const found: Placed[] = [];
  const stack: [number, Float32Array, number][] = (json.scenes?.[0]?.nodes ?? [])
    .map((root: number): [number, Float32Array, number] => [root, m4.identity() as Float32Array, -1])
    .reverse();
  while (stack.length) {
    const [number, above, owner] = stack.pop()!;
    const node = json.nodes[number];
    const world = m4.multiply(above, localOf(node)) as Float32Array;
    const look = plain ? number : (node.extras?.look ?? owner);
    if (node.mesh !== undefined) {
      const attributes = node.extensions?.EXT_mesh_gpu_instancing?.attributes;
      found.push({ look, mesh: node.mesh, worlds: attributes ? copies(attributes, world, json, views) : world });
    }
    for (const child of [...(node.children ?? [])].reverse()) stack.push([child, world, look]);
  }
  return found;
}

function localOf(node: Json): Float32Array {
  if (node.matrix) return new Float32Array(node.matrix);
  return composed(node.translation ?? [0, 0, 0], node.rotation ?? [0, 0, 0, 1], node.scale ?? [1, 1, 1]);
}

function composed(t: ArrayLike<number>, q: ArrayLike<number>, s: ArrayLike<number>): Float32Array {
  const [x, y, z, w] = [q[0], q[1], q[2], q[3]];
  return new Float32Array([
    (1 - 2 * (y * y + z * z)) * s[0], 2 * (x * y + z * w) * s[0], 2 * (x * z - y * w) * s[0], 0,
    2 * (x * y - z * w) * s[1], (1 - 2 * (x * x + z * z)) * s[1], 2 * (y * z + x * w) * s[1], 0,
    2 * (x * z + y * w) * s[2], 2 * (y * z - x * w) * s[2], (1 - 2 * (x * x + y * y)) * s[2], 0,
    t[0], t[1], t[2], 1,
  ]);
}

function copies(attributes: Json, world: Float32Array, json: Json, views: Uint8Array<ArrayBuffer>[]): Float32Array {
  const table = (name: string): Float32Array | null => {
    if (attributes[name] === undefined) return null;
    const accessor = json.accessors[attributes[name]];
    const view = views[accessor.bufferView];
    const offset = view.byteOffset + (accessor.byteOffset ?? 0);
    return new Float32Array(view.buffer, offset, accessor.count * SIZES[accessor.type]);
  };
  const t = table("TRANSLATION"), q = table("ROTATION"), s = table("SCALE");
  const many = json.accessors[Object.values(attributes)[0] as number].count;
  const out = new Float32Array(16 * many);
  for (let n = 0; n < many; n++) {
    const own = composed(
      t ? t.subarray(3 * n) : [0, 0, 0],
      q ? q.subarray(4 * n) : [0, 0, 0, 1],
      s ? s.subarray(3 * n) : [1, 1, 1],
    );
    m4.multiply(world, own, out.subarray(16 * n, 16 * n + 16));
  }
  return out;
}

function materialOf(material: Json): MaterialData {
  const surface = material.pbrMetallicRoughness ?? {};
  const strength = material.extensions?.KHR_materials_emissive_strength?.emissiveStrength ?? 1;
  const maps: MaterialData["maps"] = {};
  const keep = (key: keyof MaterialData["maps"], use: Json, amount = 1): void => {
    if (!use) return;
    const placing = use.extensions?.KHR_texture_transform ?? {};
    maps[key] = {
      texture: use.index,
      set: placing.texCoord ?? use.texCoord ?? 0,
      offset: placing.offset ?? [0, 0],
      scale: placing.scale ?? [1, 1],
      rotation: placing.rotation ?? 0,
      strength: amount,
    };
  };
  keep("color", surface.baseColorTexture);
  keep("surface", surface.metallicRoughnessTexture);
  keep("normal", material.normalTexture, material.normalTexture?.scale ?? 1);
  keep("occlusion", material.occlusionTexture, material.occlusionTexture?.strength ?? 1);
  keep("emissive", material.emissiveTexture);
  return {
    color: surface.baseColorFactor ?? [1, 1, 1, 1],
    metallic: surface.metallicFactor ?? 1,
    roughness: surface.roughnessFactor ?? 1,
    emissive: (material.emissiveFactor ?? [0, 0, 0]).map((one: number) => one * strength),
    alpha: material.alphaMode ?? "OPAQUE",
    cutoff: material.alphaCutoff ?? 0.5,
    twoSided: material.doubleSided ?? false,
    unlit: material.extensions?.KHR_materials_unlit !== undefined,
    maps,
  };
}

function textureOf(texture: Json, json: Json, views: Uint8Array<ArrayBuffer>[]): TextureData {
  const source = texture.source ?? texture.extensions?.EXT_texture_webp?.source
    ?? texture.extensions?.EXT_texture_avif?.source;
  const image = source === undefined ? undefined : json.images[source];
  const sampler = texture.sampler === undefined ? {} : json.samplers[texture.sampler];
  return {
    bytes: image?.bufferView === undefined ? new Uint8Array() : views[image.bufferView],
    mime: image?.mimeType ?? "",
    wrap: [sampler.wrapS ?? REPEAT, sampler.wrapT ?? REPEAT],
    magnify: sampler.magFilter ?? LINEAR,
  };
}
