/** How points are drawn: one shader for all panes and colours, a material for each station. */
import * as THREE from "three";
import { hueOf, HUES } from "./palette";
import type { ColourBy } from "./types";

export const [BOXES, CORNERS] = [8, 24]; // boxes that crop at a time; corners of a prism
export const SLOTS = 25; // colours of classes and zones; the first is that of what has none

/** The scale from dark blue to yellow (a polynomial through viridis, which reads in grey and for the colour-blind too). */
export const VIRIDIS = `  vec3 c0 = vec3(.277,.005,.334), c1 = vec3(.105,1.404,1.384), c2 = vec3(-.330,.214,.095), c3 = vec3(-4.634,-5.799,-19.332);
  vec3 c4 = vec3(6.228,14.179,56.690), c5 = vec3(4.776,-13.745,-65.353), c6 = vec3(-5.435,4.645,26.312);
  return c0 + t*(c1 + t*(c2 + t*(c3 + t*(c4 + t*(c5 + t*c6)))));`;

const VERTEX = `
attribute vec4 tint; attribute float mark; attribute float apart; attribute float kind;
uniform int mode; uniform vec3 hue; uniform vec2 span; uniform vec4 plane; uniform vec2 depth;
uniform float scale; uniform float perspective; uniform float least; uniform float most; uniform float closed;
uniform mat4 expected; uniform float spacing; uniform float step_;
uniform int boxes; uniform mat4 boxFrame[${BOXES}]; uniform vec3 boxHalf[${BOXES}]; uniform int boxKind[${BOXES}]; uniform vec2 boxEdge[${BOXES * CORNERS}];
uniform vec3 palette[${SLOTS}];
varying vec3 shade; varying float away; varying float coarse; // away and coarse: see surface.ts
vec3 viridis(float t) {${VIRIDIS}}
// blue before the other's surface, pale where both agree, orange behind it
vec3 apartShade(float t) {
  vec3 agree = vec3(.93, .93, .9);
  return t < .5 ? mix(agree, vec3(.93, .5, .05), min(1., 2. * (.5 - t))) : mix(agree, vec3(.1, .35, .85), min(1., 2. * (t - .5)));
}
// within a tolerance pale, beyond it in bands of once and twice it more, the last of all that lies farther
vec3 bandShade(float t) {
  float band = min(3., floor(abs(t - .5) * 6. + 1e-4));
  return band < .5 ? vec3(.80, .88, .82) : apartShade(t > .5 ? .5 + band / 6. : .5 - band / 6.);
}
// in none of the boxes that keep, or in one that takes away; a prism's corners in plan by the even-odd rule (Shimrat 1962)
bool cropped(vec4 world) {
  bool some = false, kept = false, cut = false;
  for (int b = 0; b < ${BOXES}; b++) {
    if (b >= boxes) break;
    bool within = !any(greaterThan(abs((boxFrame[b] * world).xyz), boxHalf[b]));
    int corners = boxKind[b] / 2;
    if (within && corners > 0) {
      bool odd = false;
      vec2 before = boxEdge[b * ${CORNERS} + corners - 1];
      for (int k = 0; k < ${CORNERS}; k++) {
        if (k >= corners) break;
        vec2 at = boxEdge[b * ${CORNERS} + k];
        if ((at.y > world.y) != (before.y > world.y) && world.x < (before.x - at.x) * (world.y - at.y) / (before.y - at.y) + at.x) odd = !odd;
        before = at;
      }
      within = odd;
    }
    if (boxKind[b] % 2 == 1) cut = cut || within;
    else { some = true; kept = kept || within; }
  }
  return cut || (some && !kept);
}
void main() {
  vec4 world = modelMatrix * vec4(position, 1.0);
  vec4 seen = viewMatrix * world;
  gl_Position = projectionMatrix * seen;
  float d = dot(plane.xyz, world.xyz) + plane.w;
  bool out_ = (mark > .5 && mark < 1.5) || d < depth.x || d > depth.y;
  if (!out_ && boxes > 0) out_ = cropped(world);
  if (out_) gl_Position = vec4(2.0, 2.0, 2.0, 1.0);
  // as wide as the gap to the next point: the cell of the finest level that is drawn here, or the scanner's own step at this range
  away = perspective > .5 ? log2(max(.01, -seen.z)) : -seen.z;
  float gap = max(spacing, step_ * length(position));
  coarse = min(1.0, 10.0 * gap / (perspective > .5 ? max(.05, -seen.z) : 10.0));
  gl_PointSize = clamp(closed * gap * scale / (perspective > .5 ? max(.05, -seen.z) : 1.0), least, most);
  // the wider a point, the farther back it lies: it closes holes and never covers what was seen more finely
  vec4 back = projectionMatrix * (seen - vec4(0., 0., gap, 0.));
  if (!out_) gl_Position.z = back.z / back.w * gl_Position.w;
  float t = 0.0;
  if (mode == 1) t = tint.a;
  else if (mode == 2) t = world.z;
  else if (mode == 4) t = length(position);
  else if (mode == 7 || mode == 11) t = .0001 * apart;
  else if (mode == 8) t = sqrt(max(0.0, dot(vec4(position, 1.0), expected * vec4(position, 1.0))));
  t = clamp((t - span.x) / max(1e-6, span.y - span.x), 0.0, 1.0);
  if (mode == 0 || mode == 6) shade = hue * (.45 + .75 * tint.a);
  else if (mode == 3) shade = tint.rgb;
  else if (mode == 5) shade = vec3(.6); // see surface.ts
  else if (mode == 7) shade = apart < -32767.5 ? vec3(.3) : apartShade(t);
  else if (mode == 11) shade = apart < -32767.5 ? vec3(.3) : bandShade(t);
  else if (mode == 8 && expected[3][3] < 0.0) shade = vec3(.3); // not tied: nothing is expected
  else if (mode >= 9) shade = palette[int(kind + .5)] * (.5 + .7 * tint.a);
  else shade = viridis(t);
  if (mark > 2.5) shade = mix(shade, vec3(.86, .36, .5), .75); // deleted, and looked at
  else if (mark > 1.5) shade = vec3(1.0, .72, .05);
}`;
const FRAGMENT = `
varying vec3 shade; varying float away; varying float coarse;
layout(location = 0) out vec4 colour; layout(location = 1) out float depthOut;
void main() { colour = vec4(shade, .5 + .5 * coarse); depthOut = away; } // see surface.ts`;

/** Their places are the modes of the shader. */
export const MODES: ColourBy[] = [
  "station",
  "intensity",
  "height",
  "colour",
  "range",
  "inclination",
  "group",
  "apart",
  "expected",
  "class",
  "zone",
  "model",
];

/** Uniforms all stations share; panes set them before they draw. */
export const shared = () => ({
  mode: { value: 0 },
  span: { value: new THREE.Vector2(0, 1) },
  plane: { value: new THREE.Vector4(0, 0, 1, 0) },
  depth: { value: new THREE.Vector2(-1e9, 1e9) },
  scale: { value: 1 }, // pixels a metre takes (perspective: at a depth of one metre)
  perspective: { value: 1 },
  least: { value: 1.5 },
  most: { value: 16 },
  closed: { value: 2.1 }, // times the gap that a point is wide: closes what lies there by chance too, to 1 % (exp(-2.1^2))
  boxes: { value: 0 },
  boxFrame: { value: Array.from({ length: BOXES }, () => new THREE.Matrix4()) },
  boxHalf: { value: Array.from({ length: BOXES }, () => new THREE.Vector3()) },
  boxKind: { value: new Int32Array(BOXES) },
  boxEdge: { value: Array.from({ length: BOXES * CORNERS }, () => new THREE.Vector2()) },
  palette: { value: Array.from({ length: SLOTS }, (_, k) => new THREE.Color(k ? HUES[(k - 1) % 12] : "#8a8f98")) },
});
export type Shared = ReturnType<typeof shared>;

/** step: radians between neighbouring directions of a scan with this many points. */
export const stepOf = (points: number) => Math.sqrt((4 * Math.PI) / Math.max(points, 1));

export function materialOf(all: Shared, hue: number, points: number): THREE.ShaderMaterial {
  return new THREE.ShaderMaterial({
    glslVersion: THREE.GLSL3,
    vertexShader: VERTEX,
    fragmentShader: FRAGMENT,
    uniforms: {
      ...all,
      hue: { value: new THREE.Color(hueOf(hue)) },
      expected: { value: new THREE.Matrix4() },
      spacing: { value: 0 },
      step_: { value: stepOf(points) },
    } as unknown as Record<string, THREE.IUniform>,
  });
}
