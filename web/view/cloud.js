// Survey points as they are drawn, and how edges are shaded.
/* global THREE */
import { colourBytes } from '../base/colours.js';
import { readBlock, shares, spreadOrder } from './columns.js';
import { texture } from './textures.js';

// How many are drawn while the view moves, and when it has come to rest; without a graphics card fewer.
const MOST = {card: {moving: 250000, resting: 2000000}, without: {moving: 120000, resting: 700000}};

const VERTEX = `
attribute vec4 facts;
attribute vec3 colour;
uniform float up;
uniform float size;
uniform float pixels;
uniform int mode;
uniform sampler2D kinds;
uniform sampler2D ramp;
uniform vec3 range;
uniform float brightest;
uniform float turns[16];
uniform vec4 slab;
uniform float slabWide;
varying vec3 tone;
vec3 wheel(float n) {
  return 0.55 + 0.4 * cos(6.2831853 * (n * 0.381966 + vec3(0.0, 0.33, 0.67)));
}
void main() {
  vec4 kind = texture2D(kinds, vec2((facts.x + 0.5) / 256.0, 0.5));
  float number = mod(facts.z, 16.0);
  float shown = kind.a * turns[int(number)];
  if (slabWide > 0.0 && abs(dot(position.xy - slab.xy, slab.zw)) > slabWide) shown = 0.0;
  gl_Position = projectionMatrix * modelViewMatrix * vec4(position.xy, position.z * up, 1.0);
  gl_PointSize = clamp(size * pixels / gl_Position.w, 2.0, 24.0);
  if (shown < 0.5) gl_Position = vec4(2.0, 2.0, 2.0, 1.0);
  if (mode == 0) {
    bool above = position.z >= range.y;
    float from = above ? range.y : range.x;
    float to = above ? range.z : range.y;
    float at = clamp((position.z - from) / max(to - from, 1e-6), 0.0, 0.999);
    tone = texture2D(ramp, vec2((at * 128.0 + (above ? 128.0 : 0.0) + 0.5) / 256.0, 0.5)).rgb;
  } else if (mode == 1) tone = kind.rgb;
  else if (mode == 2) tone = vec3(0.12 + 0.88 * clamp(facts.y / brightest, 0.0, 1.0));
  else if (mode == 3) tone = wheel(number);
  else if (mode == 4) tone = wheel(facts.w);
  else tone = colour;
}`;
const FRAGMENT = `
varying vec3 tone;
void main() {
  vec2 off = gl_PointCoord - 0.5;
  if (dot(off, off) > 0.25) discard;
  gl_FragColor = vec4(tone, 1.0);
}`;

export const MODES = ['height', 'class', 'intensity', 'return', 'line', 'colour'];

export class Cloud {
  // `facts`: of the page's points; `surface`: whose frame they lie on.
  // `card`: there is a graphics card.
  constructor(facts, bytes, surface, card) {
    Object.assign(this, {facts, bytes, surface, blocks: [], shown: true, loading: true, most: card ? MOST.card : MOST.without, group: new THREE.Group()});
    // About as wide as points lie apart.
    const {flat} = surface;
    const apart = Math.min(Math.max(Math.sqrt((flat.width * flat.height) / facts.shown), 0.07), 9);
    const kinds = new Uint8Array(256 * 4);
    for (const k of facts.classes) {
      kinds.set([...colourBytes(k.colour), 255], 4 * k.code);
    }
    this.kinds = texture(kinds, 256, 1);
    const ramp = new Uint8Array(256 * 4);
    [facts.ramp.below, facts.ramp.above].forEach((half, side) => half.match(/.{6}/g).forEach((hex, i) => {
      ramp.set([...colourBytes(hex), 255], 4 * (128 * side + i));
    }));
    this.material = new THREE.ShaderMaterial({vertexShader: VERTEX, fragmentShader: FRAGMENT, uniforms: {
      up: {value: 1}, size: {value: 0.8 * apart}, pixels: {value: 800}, mode: {value: facts.colours ? 5 : 1}, kinds: {value: this.kinds}, ramp: {value: texture(ramp, 256, 1)},
      range: {value: new THREE.Vector3(facts.ramp.low, facts.ramp.middle, facts.ramp.high)}, brightest: {value: Math.max(facts.intensity, 1)},
      turns: {value: new Float32Array(16).fill(1)}, slab: {value: new THREE.Vector4(0, 0, 1, 0)}, slabWide: {value: 0},
    }});
  }

  // Coloured, sized and switched as another one.
  follow(other) {
    const mine = this.material.uniforms;
    const theirs = other.material.uniforms;
    for (const name of ['up', 'pixels', 'mode', 'kinds', 'ramp', 'range', 'brightest', 'turns', 'slabWide']) mine[name] = theirs[name];
    this.kinds = other.kinds;
  }

  // Unpacks block by block, so that the picture can be looked at meanwhile; `then` is called a few times on the way.
  async load(then) {
    let at = 0;
    let told = performance.now();
    for (const block of this.facts.blocks) {
      const columns = await readBlock(block, this.bytes, at);
      at += block.lengths.reduce((a, b) => a + b, 0);
      this.add(columns);
      if (performance.now() - told < 2500) continue;
      told = performance.now();
      then();
    }
    this.bytes = null;
    this.loading = false;
    this.brightness();
  }
  add(c) {
    const {flat} = this.surface;
    const [sx, sy, sz] = this.facts.step;
    const order = spreadOrder(c.n);
    const place = new Float32Array(3 * c.n);
    const facts = new Uint16Array(4 * c.n);
    const colour = c.red ? new Uint8Array(3 * c.n) : null;
    let [low, high] = [Infinity, -Infinity];
    for (let i = 0; i < c.n; ++i) {
      const k = order[i];
      place[3 * i] = flat.x(c.x[k] * sx, c.y[k] * sy);
      place[3 * i + 1] = flat.y(c.y[k] * sy);
      place[3 * i + 2] = c.z[k] * sz;
      low = Math.min(low, place[3 * i + 2]);
      high = Math.max(high, place[3 * i + 2]);
      facts[4 * i] = c.kind[k];
      facts[4 * i + 1] = c.intensity[k];
      facts[4 * i + 2] = c.turn[k];
      facts[4 * i + 3] = c.line[k];
      if (!colour) continue;
      colour[3 * i] = c.red[k];
      colour[3 * i + 1] = c.green[k];
      colour[3 * i + 2] = c.blue[k];
    }
    const g = new THREE.BufferGeometry();
    g.setAttribute('position', new THREE.BufferAttribute(place, 3));
    g.setAttribute('facts', new THREE.BufferAttribute(facts, 4));
    g.setAttribute('colour', colour ? new THREE.BufferAttribute(colour, 3, true) : new THREE.BufferAttribute(new Uint8Array(3 * c.n), 3, true));
    const box = new THREE.Box3().setFromBufferAttribute(g.getAttribute('position'));
    const sphere = box.getBoundingSphere(new THREE.Sphere());
    g.boundingSphere = new THREE.Sphere(sphere.center, sphere.radius + 20 * Math.max(Math.abs(low), Math.abs(high)));
    const points = new THREE.Points(g, this.material);
    this.group.add(points);
    this.blocks.push({n: c.n, points, place, facts, x: sphere.center.x, y: sphere.center.y, z: (low + high) / 2});
  }
  // Intensities: what few are brighter than is white.
  brightness() {
    const some = [];
    for (const b of this.blocks) for (let i = 0; i < b.n; i += Math.max(1, Math.floor(b.n / 500))) some.push(b.facts[4 * i + 1]);
    some.sort((p, q) => p - q);
    this.material.uniforms.brightest.value = Math.max(1, some[Math.floor(0.98 * some.length)] ?? 1);
  }

  switchClass(code, on) {
    this.kinds.image.data[4 * code + 3] = on ? 255 : 0;
    this.kinds.needsUpdate = true;
  }
  switchReturn(number, on) {
    this.material.uniforms.turns.value[number] = on ? 1 : 0;
  }
  // Within so many metres of a line from a to b ([x, y] on the flat frame); null: everywhere.
  cut(a, b, wide) {
    const u = this.material.uniforms;
    u.slabWide.value = a ? wide : 0;
    if (!a) return;
    const long = Math.hypot(b[0] - a[0], b[1] - a[1]) || 1;
    u.slab.value.set(a[0], a[1], -(b[1] - a[1]) / long, (b[0] - a[0]) / long);
  }
  isShown(b, i) {
    const u = this.material.uniforms;
    if (this.kinds.image.data[4 * b.facts[4 * i] + 3] === 0 || u.turns.value[b.facts[4 * i + 2] % 16] === 0) return false;
    const {x, y, z, w} = u.slab.value;
    return u.slabWide.value === 0 || Math.abs((b.place[3 * i] - x) * z + (b.place[3 * i + 1] - y) * w) <= u.slabWide.value;
  }

  prepare(eye, up, pixels, moving) {
    const u = this.material.uniforms;
    u.up.value = up;
    u.pixels.value = pixels;
    this.group.visible = this.shown;
    const drawn = shares(this.blocks.map((b) => ({n: b.n, away: Math.hypot(eye.x - b.x, eye.y - b.y, eye.z - b.z * up)})), moving ? this.most.moving : this.most.resting);
    this.blocks.forEach((b, i) => b.points.geometry.setDrawRange(0, drawn[i]));
  }

  // The point nearest to the eye among those within `reach` pixels of (x, y): {col, row, height, facts}, or null.
  pick(camera, up, width, height, x, y, reach = 5) {
    this.group.updateMatrixWorld();
    const m = new THREE.Matrix4().multiplyMatrices(camera.projectionMatrix, camera.matrixWorldInverse).multiply(this.group.matrixWorld).elements;
    let best = null;
    let nearest = Infinity;
    for (const b of this.blocks) {
      const n = b.points.geometry.drawRange.count;
      for (let i = 0; i < n; ++i) {
        const [px, py, pz] = [b.place[3 * i], b.place[3 * i + 1], b.place[3 * i + 2] * up];
        const w = m[3] * px + m[7] * py + m[11] * pz + m[15];
        if (w <= 0 || w >= nearest) continue;
        const sx = ((m[0] * px + m[4] * py + m[8] * pz + m[12]) / w + 1) * 0.5 * width;
        if (Math.abs(sx - x) > reach) continue;
        const sy = (1 - (m[1] * px + m[5] * py + m[9] * pz + m[13]) / w) * 0.5 * height;
        if (Math.abs(sy - y) > reach || !this.isShown(b, i)) continue;
        nearest = w;
        best = {b, i};
      }
    }
    if (!best) return null;
    const {b, i} = best;
    const {col, row} = this.surface.flat.cell(b.place[3 * i], b.place[3 * i + 1]);
    const [kind, intensity, turn, line] = b.facts.subarray(4 * i, 4 * i + 4);
    return {cloud: this, col, row, height: b.place[3 * i + 2], point: {kind, intensity, number: turn % 16, of: turn >> 4, line}};
  }
}

// What lies behind its neighbours on the picture is darker the further behind it lies (eye-dome lighting, Boucheny 2009):
// shapes stand out without a light. Drawn into a picture of its own first, with depths.
export class Edges {
  constructor() {
    this.strength = 1;
    this.material = new THREE.ShaderMaterial({
      vertexShader: 'varying vec2 at; void main() { at = uv; gl_Position = vec4(position.xy, 0.0, 1.0); }',
      fragmentShader: `
uniform sampler2D picture;
uniform sampler2D depth;
uniform vec2 texel;
uniform float near;
uniform float far;
uniform float strength;
varying vec2 at;
float away(vec2 p) {
  float d = texture2D(depth, p).x;
  return log2(near * far / (far - d * (far - near)));
}
void main() {
  vec4 c = texture2D(picture, at);
  float here = away(at);
  float sum = 0.0;
  sum += max(0.0, here - away(at + vec2(texel.x, 0.0)));
  sum += max(0.0, here - away(at - vec2(texel.x, 0.0)));
  sum += max(0.0, here - away(at + vec2(0.0, texel.y)));
  sum += max(0.0, here - away(at - vec2(0.0, texel.y)));
  float shade = exp(-strength * 30.0 * min(sum, 0.08));
  gl_FragColor = vec4(c.rgb * shade, c.a);
}`,
      uniforms: {picture: {value: null}, depth: {value: null}, texel: {value: new THREE.Vector2()}, near: {value: 1}, far: {value: 1}, strength: {value: 1}},
      depthTest: false, depthWrite: false, transparent: true, blending: THREE.NoBlending,
    });
    this.scene = new THREE.Scene();
    this.scene.add(new THREE.Mesh(new THREE.PlaneBufferGeometry(2, 2), this.material));
    this.flat = new THREE.Camera();
  }
  render(renderer, scene, camera) {
    const size = renderer.getDrawingBufferSize(new THREE.Vector2());
    if (!this.target || this.target.width !== size.x || this.target.height !== size.y) {
      this.target?.dispose();
      this.target = new THREE.WebGLRenderTarget(size.x, size.y, {depthBuffer: true, stencilBuffer: false, minFilter: THREE.NearestFilter, magFilter: THREE.NearestFilter});
      this.target.depthTexture = new THREE.DepthTexture(size.x, size.y, THREE.FloatType);
    }
    renderer.setRenderTarget(this.target);
    renderer.clear();
    renderer.render(scene, camera);
    renderer.setRenderTarget(null);
    const u = this.material.uniforms;
    u.picture.value = this.target.texture;
    u.depth.value = this.target.depthTexture;
    u.texel.value.set(1.2 / size.x, 1.2 / size.y);
    u.near.value = camera.near;
    u.far.value = camera.far;
    u.strength.value = this.strength;
    renderer.render(this.scene, this.flat);
  }
}
