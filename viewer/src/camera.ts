// A camera that turns about a place.

import { m4 } from "twgl.js";
import type { Box, Vec3 } from "./facts";

const OPENING = (40 * Math.PI) / 180; // of the height of the picture
const STEEPEST = Math.PI / 2 - 0.001;


export class Camera {
  target: Vec3 = [0, 0.5, 0];
  yaw = 0.6; // from the front towards the asset's left
  pitch = 0.35;
  distance = 4;
  span = 1; // the size of all there is

  get place(): Vec3 {
    const flat = Math.cos(this.pitch) * this.distance;
    return [
      this.target[0] + Math.sin(this.yaw) * flat,
      this.target[1] + Math.sin(this.pitch) * this.distance,
      this.target[2] + Math.cos(this.yaw) * flat,
    ];
  }

  /** From the space of the camera to that of the scene. */
  get world(): Float32Array {
    return m4.lookAt(this.place, this.target, [0, 1, 0]) as Float32Array;
  }

  get view(): Float32Array {
    return m4.inverse(this.world) as Float32Array;
  }

  projection(aspect: number): Float32Array {
    const near = Math.max(this.distance - 2 * this.span, this.distance / 400);
    const far = this.distance + 4 * this.span + 20;
    return m4.perspective(this.opening(aspect), aspect, near, far) as Float32Array;
  }

  /** Of a narrow picture the width counts. */
  private opening(aspect: number): number {
    return aspect >= 1 ? OPENING : 2 * Math.atan(Math.tan(OPENING / 2) / Math.max(aspect, 0.1));
  }

  turn(right: number, up: number): void {
    this.yaw -= right;
    this.pitch = Math.min(Math.max(this.pitch + up, -STEEPEST), STEEPEST);
  }

  /** Move sideways and up by shares of the height of the picture. */
  move(right: number, up: number): void {
    const world = this.world;
    const step = 2 * this.distance * Math.tan(OPENING / 2);
    for (let k = 0; k < 3; k++) this.target[k] += step * (right * world[k] + up * world[4 + k]);
  }

  zoom(factor: number): void {
    this.distance = Math.min(Math.max(this.distance * factor, this.span * 1e-4), this.span * 50 + 10);
  }

  /** What makes all of a box seen, from where the camera looks now, in a picture of so many widths to a height. */
  framing(box: Box, aspect: number): { target: Vec3; distance: number } {
    const target = [0, 1, 2].map((k) => (box[0][k] + box[1][k]) / 2) as Vec3;
    const world = this.world;
    const high = Math.tan(this.opening(aspect) / 2), wide = high * aspect;
    let distance = 1e-5;
    for (let n = 0; n < 8; n++) {
      const away = [0, 1, 2].map((k) => box[(n >> k) & 1][k] - target[k]);
      const along = (column: number): number => [0, 1, 2].reduce((sum, k) => sum + away[k] * world[4 * column + k], 0);
      // What is nearer to the camera than the target needs more room.
      distance = Math.max(distance, along(2) + Math.abs(along(0)) / wide, along(2) + Math.abs(along(1)) / high);
    }
    return { target, distance: 1.12 * distance };
  }

  /** Where a place is in a picture of a width and height; behind the camera the last number is below 0. */
  seen(place: Vec3, wide: number, high: number): Vec3 {
    const matrix = m4.multiply(this.projection(wide / high), this.view);
    const x = place[0], y = place[1], z = place[2];
    const at = (row: number): number => matrix[row] * x + matrix[4 + row] * y + matrix[8 + row] * z + matrix[12 + row];
    const w = at(3);
    return [((at(0) / w + 1) / 2) * wide, ((1 - at(1) / w) / 2) * high, w];
  }

  /** The place that is seen at a depth of 0 to 1. */
  unseen(x: number, y: number, depth: number, wide: number, high: number): Vec3 {
    const back = m4.inverse(m4.multiply(this.projection(wide / high), this.view));
    const place = m4.transformPoint(back, [(2 * x) / wide - 1, 1 - (2 * y) / high, 2 * depth - 1]);
    return [place[0], place[1], place[2]];
  }
}
