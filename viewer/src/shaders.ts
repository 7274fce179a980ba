// What runs on the graphics card.

export const LOCATIONS = {
  a_position: 0,
  a_normal: 1,
  a_tangent: 2,
  a_uv0: 3,
  a_uv1: 4,
  a_color: 5,
  a_world: 6, // and the three after it
} as const;

/** How surfaces are drawn. */
export const STYLES = ["shaded", "wire", "normals", "checker", "colors", "slots"] as const;
export type Style = (typeof STYLES)[number];

export const SURFACE_VERTEX = `#version 300 es
in vec3 a_position;
in vec3 a_normal;
in vec4 a_tangent;
in vec2 a_uv0;
in vec2 a_uv1;
in vec4 a_color;
in mat4 a_world;
uniform mat4 u_view, u_projection;
out vec3 v_place, v_normal;
out vec4 v_tangent, v_color;
out vec2 v_uv0, v_uv1;
flat out float v_side;
void main() {
  mat3 turn = mat3(a_world);
  float side = determinant(turn) < 0.0 ? -1.0 : 1.0;
  vec4 place = u_view * a_world * vec4(a_position, 1.0);
  mat3 bend = mat3(cross(turn[1], turn[2]), cross(turn[2], turn[0]), cross(turn[0], turn[1])) * side;
  v_place = place.xyz;
  v_normal = mat3(u_view) * (bend * a_normal);
  v_tangent = vec4(mat3(u_view) * (turn * a_tangent.xyz), a_tangent.w * side);
  v_color = a_color;
  v_uv0 = a_uv0;
  v_uv1 = a_uv1;
  v_side = side;
  gl_Position = u_projection * place;
}`;

// Specular light after Walter et al. 2007 (distribution) and Schlick 1994 (Fresnel), as glTF 2.0 appendix B has it.
export const SURFACE_FRAGMENT = `#version 300 es
precision highp float;
in vec3 v_place, v_normal;
in vec4 v_tangent, v_color;
in vec2 v_uv0, v_uv1;
flat in float v_side;
uniform int u_style, u_alpha;
uniform vec4 u_color, u_tint;
uniform vec3 u_emissive, u_slot;
uniform float u_metallic, u_roughness, u_cutoff, u_normal_strength, u_occlusion_strength;
uniform bool u_two_sided, u_unlit, u_colored;
uniform bvec4 u_has;  // colour, normal, surface, occlusion
uniform bool u_glows;
uniform sampler2D u_color_map, u_normal_map, u_surface_map, u_occlusion_map, u_emissive_map;
uniform mat3 u_color_uv, u_normal_uv, u_surface_uv, u_occlusion_uv, u_emissive_uv;
uniform ivec4 u_sets;
uniform int u_emissive_set;
out vec4 out_color;
vec2 uv_at(mat3 placing, int set) { return (placing * vec3(set == 0 ? v_uv0 : v_uv1, 1.0)).xy; }
vec3 to_light(vec3 seen) { return pow(seen, vec3(2.2)); }
vec3 to_seen(vec3 light) { return pow(clamp(light, 0.0, 1.0), vec3(1.0 / 2.2)); }
void main() {
  bool front = gl_FrontFacing == (v_side > 0.0);
  if (!front && !u_two_sided) discard;
  vec3 across = normalize(cross(dFdx(v_place), dFdy(v_place)));
  vec3 normal = dot(v_normal, v_normal) > 0.0 ? normalize(v_normal) : across;
  if (!front) normal = -normal;
  vec3 eye = normalize(-v_place);
  vec4 color = u_color;
  bool plain = u_style == 0;
  if (u_has.x && (plain || u_alpha > 0)) {
    vec4 texel = texture(u_color_map, uv_at(u_color_uv, u_sets.x));
    color *= vec4(to_light(texel.rgb), texel.a);
  }
  if (u_colored) color *= v_color;
  if (u_alpha == 1 && color.a < u_cutoff) discard;
  if (u_alpha == 0) color.a = 1.0;
  float metallic = u_metallic, roughness = u_roughness, open = 1.0;
  if (plain) {
    if (u_has.z) {
      vec4 texel = texture(u_surface_map, uv_at(u_surface_uv, u_sets.z));
      metallic *= texel.b;
      roughness *= texel.g;
    }
    if (u_has.w) open = mix(1.0, texture(u_occlusion_map, uv_at(u_occlusion_uv, u_sets.w)).r, u_occlusion_strength);
  }
  if ((plain || u_style == 2) && u_has.y) {
    vec3 bent = texture(u_normal_map, uv_at(u_normal_uv, u_sets.y)).xyz * 2.0 - 1.0;
    bent.xy *= u_normal_strength;
    vec3 along = v_tangent.xyz;
    float hand = v_tangent.w;
    if (dot(along, along) == 0.0) {  // from how place and UV change together (Mikkelsen 2010)
      vec2 uv = u_sets.y == 0 ? v_uv0 : v_uv1;
      vec3 px = dFdx(v_place), py = dFdy(v_place);
      vec2 ux = dFdx(uv), uy = dFdy(uv);
      along = px * uy.y - py * ux.y;
      hand = sign(ux.x * uy.y - ux.y * uy.x);
      along *= hand;
      hand = -1.0 * hand;
    }
    along = along - normal * dot(normal, along);
    if (dot(along, along) > 1e-20) {
      along = normalize(along);
      normal = normalize(mat3(along, cross(normal, along) * hand, normal) * bent);
    }
  }
  vec3 lamp = normalize(vec3(-0.45, 0.65, 0.6));
  float facing = max(dot(normal, lamp), 0.0);
  if (u_style == 2) {
    out_color = vec4(normal * 0.5 + 0.5, 1.0);
  } else if (u_style == 3) {
    vec2 square = floor(v_uv0 * 8.0);
    bool dark = mod(square.x + square.y, 2.0) > 0.5;
    vec3 whole = vec3(0.35, 0.52, 0.40) + 0.35 * vec3(fract(v_uv0.x), 0.0, fract(v_uv0.y));
    out_color = vec4((dark ? whole * 0.55 : whole * 1.25) * (0.45 + 0.55 * facing), 1.0);
  } else if (u_style == 4) {
    out_color = vec4(to_seen(v_color.rgb), 1.0);
  } else if (u_style == 5) {
    out_color = vec4(u_slot * (0.5 + 0.5 * facing), 1.0);
  } else if (u_style == 1) {
    out_color = vec4(vec3(0.93, 0.92, 0.88) * (0.72 + 0.28 * facing), 1.0);
  } else if (u_unlit) {
    out_color = vec4(to_seen(color.rgb), color.a);
  } else {
    vec3 base = mix(vec3(0.04), color.rgb, metallic);
    vec3 matte = color.rgb * (1.0 - metallic);
    float a = max(roughness * roughness, 0.003);
    vec3 half_way = normalize(lamp + eye);
    float nh = max(dot(normal, half_way), 0.0), nv = max(dot(normal, eye), 0.05), vh = max(dot(eye, half_way), 0.0);
    float spread = nh * nh * (a * a - 1.0) + 1.0;
    float mirror = a * a / (3.14159 * spread * spread);
    float shade = 0.5 / mix(2.0 * facing * nv, facing + nv, a);
    vec3 edge = base + (1.0 - base) * pow(1.0 - vh, 5.0);
    float up = normal.y * 0.5 + 0.5;
    vec3 sky = mix(vec3(0.30, 0.29, 0.26), vec3(0.62, 0.66, 0.70), up);
    vec3 back = reflect(-eye, normal);
    vec3 seen = mix(vec3(0.22, 0.21, 0.19), vec3(0.80, 0.84, 0.88), smoothstep(-0.4 - a, 0.4 + a, back.y));
    vec3 rim = base + (max(vec3(1.0 - roughness), base) - base) * pow(1.0 - nv, 5.0);
    vec3 light = matte * (sky * open + 1.9 * facing / 3.14159 * 1.4)
      + rim * seen * open * 0.8 + facing * min(mirror * shade, 40.0) * edge * 1.6;
    vec3 glow = u_emissive;
    if (u_glows) glow *= to_light(texture(u_emissive_map, uv_at(u_emissive_uv, u_emissive_set)).rgb);
    out_color = vec4(to_seen(light + glow), color.a);
  }
  out_color.rgb = mix(out_color.rgb, u_tint.rgb, u_tint.a);
  if (u_alpha == 2 && plain) out_color.rgb *= out_color.a; else out_color.a = 1.0;
}`;

/** Plain colour over the same vertices: lines, and what is see-through. */
export const FLAT_VERTEX = `#version 300 es
in vec3 a_position;
in vec4 a_color;
in mat4 a_world;
uniform mat4 u_view, u_projection;
uniform float u_nearer, u_dot;
out vec3 v_place;
out vec4 v_color;
void main() {
  vec4 place = u_view * a_world * vec4(a_position, 1.0);
  v_place = place.xyz;
  v_color = a_color;
  gl_Position = u_projection * place;
  gl_Position.z -= u_nearer * gl_Position.w;
  gl_PointSize = u_dot;
}`;

export const FLAT_FRAGMENT = `#version 300 es
precision highp float;
in vec3 v_place;
in vec4 v_color;
uniform vec4 u_color;
uniform bool u_shaded;
out vec4 out_color;
void main() {
  vec4 color = u_color * v_color;
  if (u_shaded) {
    vec3 across = normalize(cross(dFdx(v_place), dFdy(v_place)));
    color.rgb *= 0.7 + 0.3 * abs(across.z);
  }
  out_color = vec4(color.rgb * color.a, color.a);
}`;

/** The number of what is seen, and how deep it is. */
export const PICK_FRAGMENT = `#version 300 es
precision highp float;
precision highp int;
uniform uint u_number;
out uvec4 out_number;
void main() { out_number = uvec4(u_number, floatBitsToUint(gl_FragCoord.z), 0u, 1u); }`;
