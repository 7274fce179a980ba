// What Python says of a scene (zesty_otter.page.packing). Lengths in metres, places in left, up, forward.

export type Vec3 = [number, number, number];
export type Box = [Vec3, Vec3];

export interface NodeFacts {
  name: string;
  parent: number;
  role: string;
  visible: boolean;
  kind: string;
  about: string;
  mesh: string | null;
  slots: string[];
  triangles: number;
  faces: [number, number, number] | null;
  points: number;
  uvs: number;
  copies: number;
  size: Vec3 | null;
  leftover: string[];
  pivot: Vec3;
  box: Box | null;
  level: number;
  distance: number | null;
  print: [string, string];
}

export interface AssetFacts {
  name: string;
  main: number[];
  levels: { number: number; nodes: number[]; distance: number | null }[];
}

export interface Finding {
  rule: string;
  severity: "error" | "warning";
  text: string;
  where: string;
  mend: string;
  place: Vec3 | null;
  nodes: number[];
}

export interface Facts {
  name: string;
  axes: [string, string, string];
  directions: [Vec3, Vec3, Vec3];
  unit: number | null;
  bounds: Box | null;
  nodes: NodeFacts[];
  left_out: number;
  assets: AssetFacts[];
  kinds: Record<string, number>;
  notes: string[];
  remarks: string[];
  plain?: boolean;
}

/** A scene to show; what is large is fetched when it is first drawn. */
export interface Source {
  facts: Facts;
  findings(): Promise<Finding[]>;
  model(): Promise<ArrayBuffer>;
  edges(): Promise<ArrayBuffer>;
  footing(): Promise<ArrayBuffer>;
}

/** A length as people say it. */
export function length(metres: number): string {
  const size = Math.abs(metres);
  if (size < 1e-6) return "0";
  if (size < 0.01) return `${short(metres * 1000)} mm`;
  if (size < 1) return `${short(metres * 100)} cm`;
  if (size < 1000) return `${short(metres)} m`;
  return `${short(metres / 1000)} km`;
}

function short(value: number): string {
  return String(Number(value.toPrecision(4)));
}

export function count(number: number, noun: string): string {
  return `${number.toLocaleString("en")} ${noun}${number === 1 ? "" : "s"}`;
}

export function size(sides: Vec3): string {
  return sides.map(length).join(" × ");
}
