// A surface as it is drawn: squares of 128 cells as triangles that are as fine as the eye can tell from where it is,
// with the colours and the slope of every cell in pictures laid over them, so that the light is exact whatever the triangles.
/* global THREE */
import { errorsOf, trianglesOf } from './mesh.js';
import { FIELD } from './camera.js';
import { texture } from './textures.js';

const SQUARE = 128;

const VERTEX = `
attribute vec2 cell;
varying vec2 over;
varying float height;
uniform vec2 cells;
uniform float up;
void main() {
  over = cell / cells;
  height = position.z;
  gl_Position = projectionMatrix * modelViewMatrix * vec4(position.xy, position.z * up, 1.0);
}`;

const FRAGMENT = `
uniform sampler2D colours;
uniform sampler2D slopes;
uniform vec3 sun;
uniform float lit;
uniform float steeper;
uniform float interval;
uniform float base;
uniform float level;
uniform vec3 ink;
uniform vec2 cells;
uniform vec4 hole;
varying vec2 over;
varying float height;
float near(float at, float width) {
  float off = abs(fract(at - 0.5) - 0.5);
  float wide = max(fwidth(at), 1e-6);
  return wide > 0.45 ? 0.0 : 1.0 - smoothstep(width - 0.6, width + 0.6, off / wide);
}
void main() {
  vec2 at = over * cells;
  if (at.x > hole.x && at.y > hole.y && at.x < hole.z && at.y < hole.w) discard;
  vec4 c = texture2D(colours, over);
  if (c.a < 0.5) discard;
  vec3 colour = c.rgb / c.a;
  vec2 t = texture2D(slopes, over).xy * (255.0 / 127.0) - 128.0 / 127.0;
  vec2 n = t * abs(t);
  float flatness = sqrt(max(1.0 - dot(n, n), 1e-6));
  vec3 normal = normalize(vec3(n * steeper, flatness));
  float shade = 1.0 + 254.0 * max(dot(normal, sun), 0.0);
  float light = 0.55 + 0.45 * shade / 180.6;
  colour *= mix(1.0, pow(light, 1.36), lit);
  if (interval > 0.0) {
    float nth = (height - base) / interval;
    float line = max(0.55 * near(nth, 0.5), 0.85 * near(nth / 5.0, 0.9));
    colour = mix(colour, ink, line);
  }
  if (height < level) colour = mix(colour, vec3(0.16, 0.42, 0.62), 0.35);
  gl_FragColor = vec4(min(colour, 1.0), 1.0);
}`;

// Every `by`-th cell of a picture.
function thinned(bytes, cols, rows, by) {
  if (by === 1) return {bytes, cols, rows};
  const c = Math.ceil(cols / by);
  const r = Math.ceil(rows / by);
  const from = new Uint32Array(bytes.buffer, bytes.byteOffset, cols * rows);
  const out = new Uint32Array(c * r);
  for (let j = 0; j < r; ++j) for (let i = 0; i < c; ++i) out[j * c + i] = from[j * by * cols + i * by];
  return {bytes: new Uint8Array(out.buffer), cols: c, rows: r};
}

export class Terrain {
  // `most`: triangles that may be drawn.
  constructor(surface, mostTexture, most) {
    Object.assign(this, {surface, most, mostTexture});
    this.by = Math.ceil(Math.max(surface.cols, surface.rows) / mostTexture);
    this.group = new THREE.Group();
    this.material = new THREE.ShaderMaterial({
      vertexShader: VERTEX, fragmentShader: FRAGMENT, side: THREE.DoubleSide, extensions: {derivatives: true},
      uniforms: {
        colours: {value: null}, slopes: {value: this.slopePicture()}, cells: {value: new THREE.Vector2(surface.cols, surface.rows)},
        up: {value: surface.facts.metres}, sun: {value: new THREE.Vector3(0, 0, 1)}, lit: {value: 1}, steeper: {value: 1},
        interval: {value: 0}, base: {value: 0}, level: {value: -1e30}, ink: {value: new THREE.Color(0x2a2119)}, hole: {value: new THREE.Vector4(0, 0, 0, 0)},
      },
    });
    this.coarseness = 1;
    this.triangles = 0;
    this.squares = [];
    for (let row = 0; row < surface.rows - 1; row += SQUARE) {
      for (let col = 0; col < surface.cols - 1; col += SQUARE) this.addSquare(col, row);
    }
  }

  // East and north of the upright direction of each cell, their roots in bytes: finest on level ground.
  slopePicture() {
    const {surface} = this;
    const {east, north} = surface.gradients();
    const bytes = new Uint8Array(4 * east.length);
    for (let i = 0; i < east.length; ++i) {
      const p = east[i];
      const q = north[i];
      const long = 1 / Math.sqrt(1 + p * p + q * q);
      bytes[4 * i] = p !== p ? 128 : 128.5 + 127 * (p > 0 ? -Math.sqrt(p * long) : Math.sqrt(-p * long));
      bytes[4 * i + 1] = q !== q ? 128 : 128.5 + 127 * (q > 0 ? -Math.sqrt(q * long) : Math.sqrt(-q * long));
    }
    const small = thinned(bytes, surface.cols, surface.rows, this.by);
    return texture(small.bytes, small.cols, small.rows, 'smooth');
  }

  addSquare(col, row) {
    const {surface} = this;
    const wide = SQUARE + 1;
    const heights = new Float32Array(wide * wide).fill(NaN);
    let low = Infinity;
    let high = -Infinity;
    for (let y = 0; y < Math.min(wide, surface.rows - row); ++y) {
      for (let x = 0; x < Math.min(wide, surface.cols - col); ++x) {
        const z = surface.values[(row + y) * surface.cols + col + x];
        heights[y * wide + x] = z;
        if (z < low) low = z;
        if (z > high) high = z;
      }
    }
    if (!(low <= high)) return;
    const {flat} = surface;
    const x0 = flat.x(col, row);
    const y0 = flat.y(row);
    const x1 = flat.x(col + SQUARE, row + SQUARE);
    const y1 = flat.y(Math.min(row + SQUARE, surface.rows));
    this.squares.push({col, row, heights, errors: null, mesh: null, drawn: NaN, count: 0, x: (x0 + x1) / 2, y: (y0 + y1) / 2, low, high,
      reach: Math.hypot(x1 - x0, y1 - y0) / 2});
  }

  // Lit, cut and measured as another one.
  follow(other) {
    for (const name of ['up', 'sun', 'lit', 'steeper', 'interval', 'base', 'level', 'ink']) {
      this.material.uniforms[name] = other.material.uniforms[name];
    }
  }
  dispose() {
    for (const s of this.squares) s.mesh?.geometry.dispose();
    this.material.uniforms.colours.value?.dispose();
    this.material.uniforms.slopes.value.dispose();
    this.material.dispose();
  }

  // Four bytes a pixel, as many pixels as cells or those of a picture of its own.
  setColours(bytes, smooth, cols = this.surface.cols, rows = this.surface.rows) {
    const small = thinned(bytes, cols, rows, Math.ceil(Math.max(cols, rows) / this.mostTexture));
    this.material.uniforms.colours.value?.dispose();
    this.material.uniforms.colours.value = texture(small.bytes, small.cols, small.rows, smooth ? 'smooth' : 'sharp');
  }

  // Makes triangles as fine as they should be from this eye; those that are farthest from it first, for as long as `most`
  // milliseconds. True when nothing is left to do.
  refine(eye, pixels, exaggeration, most) {
    const scale = (2 * Math.tan((FIELD / 2) * (Math.PI / 180))) / pixels;
    const up = this.surface.facts.metres * exaggeration;
    const wanted = [];
    for (const s of this.squares) {
      const middle = ((s.low + s.high) / 2) * up;
      const reach = Math.hypot(s.reach, ((s.high - s.low) / 2) * up);
      const away = Math.max(Math.hypot(eye.x - s.x, eye.y - s.y, eye.z - middle) - reach, reach / 20);
      const error = (this.coarseness * away * scale) / up;
      const drawn = Math.floor(Math.log2(error));
      if (drawn !== s.drawn) wanted.push({s, drawn, error: 2 ** drawn});
    }
    wanted.sort((a, b) => (Number.isNaN(b.s.drawn) ? 1e3 : Math.abs(b.drawn - b.s.drawn)) - (Number.isNaN(a.s.drawn) ? 1e3 : Math.abs(a.drawn - a.s.drawn)));
    const start = performance.now();
    for (const {s, drawn, error} of wanted) {
      this.build(s, error);
      s.drawn = drawn;
      if (performance.now() - start > most) return false;
    }
    if (this.triangles > this.most) {
      this.coarseness *= 1.5;
      return false;
    }
    return true;
  }

  build(s, error) {
    s.errors ??= errorsOf(s.heights, SQUARE);
    const {nodes, triangles} = trianglesOf(s.heights, s.errors, SQUARE, error);
    this.triangles += triangles.length / 3 - s.count;
    s.count = triangles.length / 3;
    const {flat, cols, rows} = this.surface;
    const count = nodes.length / 2;
    const skirt = skirtOf(nodes, triangles, s, cols, rows);
    const place = new Float32Array(3 * (count + skirt.length));
    const cell = new Float32Array(2 * (count + skirt.length));
    const put = (i, x, y, down) => {
      const c = s.col + x + 0.5;
      const r = s.row + y + 0.5;
      place[3 * i] = flat.x(c, r);
      place[3 * i + 1] = flat.y(r);
      place[3 * i + 2] = s.heights[y * (SQUARE + 1) + x] - down;
      cell[2 * i] = c;
      cell[2 * i + 1] = r;
    };
    for (let i = 0; i < count; ++i) put(i, nodes[2 * i], nodes[2 * i + 1], 0);
    // Two squares of different fineness part by no more than their errors: a short curtain along the border hides that.
    const below = new Map();
    skirt.forEach((node, i) => {
      put(count + i, nodes[2 * node], nodes[2 * node + 1], 4 * error);
      below.set(node, count + i);
    });
    for (const [a, b] of skirt.sides) triangles.push(a, below.get(a), b, b, below.get(a), below.get(b));
    const g = new THREE.BufferGeometry();
    g.setAttribute('position', new THREE.BufferAttribute(place, 3));
    g.setAttribute('cell', new THREE.BufferAttribute(cell, 2));
    g.setIndex(new THREE.BufferAttribute(new Uint32Array(triangles), 1));
    const up = 20 * this.surface.facts.metres;
    g.boundingSphere = new THREE.Sphere(new THREE.Vector3(s.x, s.y, 0),
      s.reach + Math.max(Math.abs(s.low), Math.abs(s.high)) * up + 1);
    if (s.mesh) {
      s.mesh.geometry.dispose();
      s.mesh.geometry = g;
    } else {
      s.mesh = new THREE.Mesh(g, this.material);
      this.group.add(s.mesh);
    }
  }
}

// Nodes on the border to other squares, and its sides.
function skirtOf(nodes, triangles, s, cols, rows) {
  const onBorder = (i, j) => {
    const [x0, y0, x1, y1] = [nodes[2 * i], nodes[2 * i + 1], nodes[2 * j], nodes[2 * j + 1]];
    return (x0 === x1 && ((x0 === 0 && s.col > 0) || (x0 === SQUARE && s.col + SQUARE < cols - 1))) ||
      (y0 === y1 && ((y0 === 0 && s.row > 0) || (y0 === SQUARE && s.row + SQUARE < rows - 1)));
  };
  const list = [];
  const known = new Set();
  list.sides = [];
  for (let t = 0; t < triangles.length; t += 3) {
    for (let k = 0; k < 3; ++k) {
      const a = triangles[t + k];
      const b = triangles[t + ((k + 1) % 3)];
      if (!onBorder(a, b)) continue;
      list.sides.push([a, b]);
      for (const i of [a, b]) {
        if (!known.has(i)) {
          known.add(i);
          list.push(i);
        }
      }
    }
  }
  return list;
}
