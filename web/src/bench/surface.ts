/**
 * The drawing surface: points into a picture with depth, then onto the page with depth shading.
 *
 * Shading (Boucheny 2009, eye-dome lighting): a pixel is darker the more its neighbours lie before it, which makes pipes, steps
 * and edges read without colour. strength 0 shows the points as they are. The first picture holds colour, and in its alpha the gap
 * between points (0 without any, .5 to 1 for gaps of 0 to 10 % of the distance); the second holds how far away they are.
 */
import * as THREE from "three";
import type { Cloud } from "./cloud";
import { GROUND, type Ground } from "./palette";
import type { Pane } from "./pane";
import { MODES, VIRIDIS } from "./points";
import type { Scene } from "./types";

THREE.ColorManagement.enabled = false; // colours are given and drawn as sRGB

const WHOLE = `varying vec2 at; void main() { at = uv; gl_Position = vec4(position.xy, 1.0, 1.0); }`;
const SHADE = `
uniform sampler2D picture; uniform sampler2D away; uniform vec2 one; uniform vec4 part;
uniform float perspective; uniform float strength; uniform vec3 ground;
uniform float incline; uniform vec2 span; uniform vec2 half_; uniform vec3 up; uniform float metre; // see inclination()
varying vec2 at;
// log2 of metres in perspective, metres else; the second picture. Where there is no point, nothing lies before anything.
float depthAt(vec2 q, float none) {
  q = clamp(q, part.xy, part.xy + part.zw);
  return texture2D(picture, q).a < .4 ? none : texture2D(away, q).x;
}
// The place of a pixel as the camera sees it; half_: half of what is seen, metres (perspective: at a depth of one metre).
vec3 placeAt(vec2 q) {
  float d = texture2D(away, q).x;
  vec2 flat_ = ((q - part.xy) / part.zw * 2.0 - 1.0) * half_;
  if (perspective < .5) return vec3(flat_, -d);
  d = exp2(d);
  return vec3(flat_ * d, -d);
}
bool there(vec2 q) {
  return texture2D(picture, q).a >= .4 && all(greaterThanEqual(q, part.xy)) && all(lessThanEqual(q, part.xy + part.zw));
}
// Along the surface at p in a direction: between its neighbours, or towards the one that lies nearer in depth at an edge.
vec3 along(vec2 p, vec2 d, vec3 here) {
  bool a = there(p + d); bool b = there(p - d);
  if (!a && !b) return vec3(0.);
  vec3 on = a ? placeAt(p + d) - here : vec3(0.); vec3 back = b ? here - placeAt(p - d) : vec3(0.);
  if (!a) return back;
  if (!b) return on;
  float gap = abs(on.z - back.z);
  return gap < .5 * max(abs(on.x) + abs(on.y), abs(back.x) + abs(back.y)) ? on + back : abs(on.z) < abs(back.z) ? on : back;
}
// Degrees by which the surface leans from level, from the depths round a pixel, some 5 cm apart; -1 where there is none.
float inclination(vec2 p) {
  vec3 here = placeAt(p);
  float pixels = clamp(.05 * metre / (perspective > .5 ? -here.z : 1.0), 1.5, 9.0);
  vec3 sum = vec3(0.);
  for (int k = 1; k <= 2; k++) {
    vec2 d = one * pixels * .5 * float(k);
    vec3 n = cross(along(p, vec2(d.x, 0.), here), along(p, vec2(0., d.y), here));
    if (dot(n, n) > 0.) sum += normalize(n);
  }
  return dot(sum, sum) > 0. ? degrees(acos(min(1.0, abs(dot(normalize(sum), up))))) : -1.0;
}
vec3 viridis(float t) {${VIRIDIS}}
void main() {
  vec2 p = part.xy + at * part.zw;
  vec4 colour = texture2D(picture, p);
  if (colour.a < .4) { gl_FragColor = vec4(ground, 1.0); return; }
  float before = 0.0;
  if (strength > 0.0) {
    float here = depthAt(p, 0.0);
    float least = .004 + .3 * (2.0 * colour.a - 1.0); // steps that the gaps between points make by themselves
    for (int k = 0; k < 2; k++) {
      vec2 d = 1.5 * one * (k == 0 ? vec2(1., 0.) : vec2(0., 1.));
      float mean = .5 * (depthAt(p + d, here) + depthAt(p - d, here)); // on a plane, however steep, that is the depth here
      before += max(0.0, (here - mean) * (perspective > .5 ? 1.0 : .05) - .5 * least);
    }
  }
  vec3 shade = colour.rgb;
  if (incline > .5 && colour.b == colour.r) { // what is lit up keeps its colour
    float leans = inclination(p);
    shade = leans < 0. ? vec3(.3) : viridis(clamp((leans - span.x) / max(1e-6, span.y - span.x), 0., 1.));
  }
  gl_FragColor = vec4(shade * exp(-strength * before), 1.0);
}`;
const STRENGTH = 60; // of the shading at full: an edge of 5 % of its distance takes four fifths of the light

/** What lies left and right of a share of a viewport. */
function halves(v: THREE.Vector4, at: number): THREE.Vector4[] {
  const left = Math.round(v.z * at);
  return [new THREE.Vector4(v.x, v.y, left, v.w), new THREE.Vector4(v.x + left, v.y, v.z - left, v.w)];
}

type Four = [number, number, number, number];

export class Surface {
  readonly canvas: HTMLCanvasElement;
  private renderer: THREE.WebGLRenderer;
  private target: THREE.WebGLRenderTarget;
  private sheet: THREE.Mesh<THREE.PlaneGeometry, THREE.ShaderMaterial>;
  private page = new THREE.Scene();
  private lens = new THREE.OrthographicCamera(-1, 1, 1, -1, -1, 1);
  private stop = new AbortController();
  lost = false;

  constructor(restored: () => void) {
    this.renderer = new THREE.WebGLRenderer({ antialias: false, powerPreference: "high-performance" });
    this.renderer.outputColorSpace = THREE.LinearSRGBColorSpace;
    this.renderer.setPixelRatio(Math.min(window.devicePixelRatio, 2));
    this.renderer.setScissorTest(true);
    this.renderer.autoClear = false;
    this.canvas = this.renderer.domElement;
    this.target = new THREE.WebGLRenderTarget(1, 1, {
      minFilter: THREE.NearestFilter,
      magFilter: THREE.NearestFilter,
      count: 2, // colour, and how far away
    });
    const far = this.target.textures[1]!;
    far.format = THREE.RedFormat;
    far.type = THREE.FloatType;
    const uniforms = {
      picture: { value: this.target.textures[0] },
      away: { value: far },
      one: { value: new THREE.Vector2() },
      part: { value: new THREE.Vector4() },
      perspective: { value: 1 },
      strength: { value: 0 },
      ground: { value: new THREE.Color() },
      incline: { value: 0 },
      span: { value: new THREE.Vector2() },
      half_: { value: new THREE.Vector2() },
      up: { value: new THREE.Vector3() },
      metre: { value: 1 },
    };
    const material = new THREE.ShaderMaterial({
      ...{ vertexShader: WHOLE, fragmentShader: SHADE, uniforms },
      ...{ depthTest: false, depthWrite: false },
    });
    this.sheet = new THREE.Mesh(new THREE.PlaneGeometry(2, 2), material);
    this.sheet.frustumCulled = false;
    this.page.add(this.sheet);
    const { signal } = this.stop;
    this.canvas.addEventListener("webglcontextlost", (e) => (e.preventDefault(), (this.lost = true)), { signal });
    this.canvas.addEventListener("webglcontextrestored", () => ((this.lost = false), restored()), { signal });
  }

  get ratio() {
    return this.renderer.getPixelRatio();
  }

  resize(w: number, h: number) {
    const size = this.renderer.getSize(new THREE.Vector2());
    if (size.x === w && size.y === h) return;
    this.renderer.setSize(w, h, false);
    this.target.setSize(Math.round(w * this.ratio), Math.round(h * this.ratio));
  }

  /** Draw the points of all panes and put them on the page; fine: pixels of the picture for one of the page. */
  draw(panes: Pane[], cloud: Cloud, scene: Scene, fine = 1) {
    if (this.lost) return;
    const height = this.renderer.getSize(new THREE.Vector2()).y;
    this.renderer.setRenderTarget(this.target);
    panes.forEach((p, k) => {
      const { x, y, w, h } = p.rect;
      this.target.viewport
        .set(x, height - y - h, w, h)
        .multiplyScalar(this.ratio * fine)
        .round();
      this.target.scissor.copy(this.target.viewport);
      this.target.scissorTest = true;
      this.renderer.setRenderTarget(this.target);
      this.renderer.setClearColor(GROUND[scene.ground], 0);
      this.renderer.clear();
      this.prepare(p, cloud, scene, fine);
      const sides = scene.split ? halves(this.target.viewport, scene.split.at) : [this.target.viewport.clone()];
      sides.forEach((side, n) => {
        this.target.scissor.copy(side);
        this.renderer.setRenderTarget(this.target);
        cloud.show(k, scene.split?.of[n] ?? null);
        this.renderer.render(cloud.scene, p.camera);
      });
    });
    this.renderer.setRenderTarget(null);
    this.sheet.material.uniforms["span"]!.value = cloud.shared.span.value;
    const leaning = cloud.shared.mode.value === MODES.indexOf("inclination");
    for (const p of panes) {
      const whole = p.shaded(scene.slab); // else surfaces are cut away, and their points stand apart
      this.sheet.material.uniforms["incline"]!.value = leaning && whole ? 1 : 0;
      this.put(p, height, scene.ground, whole ? scene.shading : 0, fine);
    }
  }

  private prepare(p: Pane, cloud: Cloud, { slab }: Scene, fine: number) {
    const u = cloud.shared;
    const cut = p.cut(slab);
    u.plane.value.set(cut?.normal.x ?? 0, cut?.normal.y ?? 0, cut?.normal.z ?? 1, cut?.offset ?? 0);
    u.depth.value.set(cut?.low ?? -1e9, cut?.high ?? 1e9);
    u.perspective.value = p.camera instanceof THREE.PerspectiveCamera ? 1 : 0;
    u.scale.value = p.metre * this.ratio * fine;
    const [least, most] = p.shaded(slab) ? [1.5, 16] : [1.6, 1.6]; // in a cut each point is a point
    u.least.value = Math.max(1, least * this.ratio * fine);
    u.most.value = Math.max(1, most * this.ratio * fine);
  }

  private put(p: Pane, height: number, ground: Ground, strength: number, fine: number) {
    const { x, y, w, h } = p.rect;
    const { width, height: high } = this.target;
    const u = this.sheet.material.uniforms as Record<string, { value: never }> & {
      one: { value: THREE.Vector2 };
      part: { value: THREE.Vector4 };
      ground: { value: THREE.Color };
      half_: { value: THREE.Vector2 };
      up: { value: THREE.Vector3 };
    };
    u.one.value.set(this.ratio / width, this.ratio / high);
    const r = this.ratio * fine;
    const [left, low, wide, tall] = [x * r, (height - y - h) * r, w * r, h * r].map(Math.round) as Four;
    u.part.value.set(left / width, low / high, wide / width, tall / high);
    u["perspective"]!.value = (p.camera instanceof THREE.PerspectiveCamera ? 1 : 0) as never;
    u["strength"]!.value = (STRENGTH * strength) as never;
    u.ground.value.set(GROUND[ground]);
    u["metre"]!.value = (p.metre * r) as never;
    u.half_.value.set(w / 2 / p.metre, h / 2 / p.metre);
    u.up.value.set(0, 0, 1).transformDirection(p.camera.matrixWorldInverse);
    this.renderer.setViewport(x, height - y - h, w, h);
    this.renderer.setScissor(x, height - y - h, w, h);
    this.renderer.render(this.page, this.lens);
  }

  /** For tests and the measuring: lose the graphics card, and give it back. */
  lose(ms: number) {
    const gl = this.renderer.getContext().getExtension("WEBGL_lose_context");
    gl?.loseContext();
    setTimeout(() => gl?.restoreContext(), ms);
  }

  dispose() {
    this.stop.abort();
    this.target.dispose();
    this.sheet.material.dispose();
    this.renderer.dispose();
  }
}
