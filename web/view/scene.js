// The picture of surfaces in three dimensions: draws when something has changed, follows pointer, touch and keys.
/* global THREE */
import { FIELD, EYE, between, direction, eyeOf, fitted, moved, turned, upOf, zoomed } from './camera.js';
import { Edges } from './cloud.js';
import { Terrain } from './terrain.js';

const calm = () => matchMedia('(prefers-reduced-motion: reduce)').matches;

// Without a graphics card smooth edges cost more than they are worth.
function isSoftware() {
  const c = document.createElement('canvas').getContext('webgl2');
  const told = c?.getExtension('WEBGL_debug_renderer_info');
  return told ? /swiftshader|llvmpipe|software/i.test(c.getParameter(told.UNMASKED_RENDERER_WEBGL)) : false;
}

export class Scene {
  // Throws where there is no WebGL. `over`: a canvas on top for lines and marks, painted by `paint(scene, context)`.
  constructor(canvas, over, surfaces) {
    this.software = isSoftware();
    const context = canvas.getContext('webgl2', {antialias: !this.software, preserveDrawingBuffer: false, powerPreference: 'high-performance'});
    if (!context) throw new Error('this browser or this machine offers no WebGL 2, which draws in three dimensions');
    Object.assign(this, {canvas, over, surfaces, exaggeration: 1, which: 0, curtain: null, water: null, painters: [], onView: null, cloud: null, edges: null, ground: true, inset: null});
    this.renderer = new THREE.WebGLRenderer({canvas, context, alpha: true});
    this.renderer.setClearColor(0x000000, 0);
    this.camera = new THREE.PerspectiveCamera(FIELD, 1, 1, 1e6);
    this.scene = new THREE.Scene();
    const most = Math.min(this.renderer.capabilities.maxTextureSize, 8192);
    this.terrains = surfaces.map((s) => new Terrain(s, most, this.software ? 90000 : 320000));
    this.terrains.forEach((t) => this.scene.add(t.group));
    this.sea = new THREE.Mesh(new THREE.PlaneBufferGeometry(1, 1),
      new THREE.MeshBasicMaterial({color: 0x2f7ea6, transparent: true, opacity: 0.45, side: THREE.DoubleSide, depthWrite: false}));
    this.sea.visible = false;
    this.scene.add(this.sea);
    this.first = surfaces[0];
    this.view = this.home();
    this.wanted = false;
    this.slow = 1;
    this.listen();
    new ResizeObserver(() => this.resize()).observe(canvas.parentElement);
    this.resize();
  }

  get up() {
    return this.first.facts.metres * this.exaggeration;
  }
  home(bearing = 0, tilt = 42) {
    const {flat, low, high} = this.first;
    const {clientWidth, clientHeight} = this.canvas;
    return fitted(flat.width, flat.height, ((low + high) / 2) * this.up, (clientWidth || 16) / (clientHeight || 10), bearing, tilt);
  }
  least() {
    return Math.max((2 * this.first.flat.width) / this.first.cols, 0.5);
  }
  most() {
    return 6 * Math.hypot(this.first.flat.width, this.first.flat.height);
  }

  resize() {
    const {clientWidth, clientHeight} = this.canvas.parentElement;
    this.width = Math.max(clientWidth, 1);
    this.height = Math.max(clientHeight, 1);
    this.setSize();
    this.draw();
  }
  setSize() {
    const ratio = Math.min(window.devicePixelRatio || 1, 2);
    this.renderer.setPixelRatio(ratio * this.slow);
    this.renderer.setSize(this.width, this.height, false);
    this.over.width = this.width * ratio;
    this.over.height = this.height * ratio;
    this.camera.aspect = this.width / this.height;
  }

  setView(view, gently = false) {
    cancelAnimationFrame(this.flight);
    if (!gently || calm()) {
      this.view = view;
      this.draw();
      return;
    }
    const from = this.view;
    const start = performance.now();
    const step = () => {
      const t = Math.min((performance.now() - start) / 600, 1);
      this.view = t === 1 ? view : between(from, view, t * t * (3 - 2 * t));
      this.paint();
      if (t < 1) this.flight = requestAnimationFrame(step);
      else this.draw();
    };
    this.flight = requestAnimationFrame(step);
  }

  draw() {
    if (this.wanted) return;
    this.wanted = true;
    requestAnimationFrame(() => {
      this.wanted = false;
      this.paint();
    });
  }

  place() {
    const {camera, view} = this;
    if (view.walks) {
      const {col, row} = this.first.flat.cell(view.x, view.y);
      const ground = this.first.height(col, row);
      view.z = ((Number.isNaN(ground) ? this.first.low : ground) + EYE / this.first.facts.metres) * this.up;
    }
    const eye = eyeOf(view);
    const d = direction(view.bearing, view.tilt);
    const u = upOf(view);
    const wide = this.most();
    camera.near = view.walks ? 0.2 : Math.max(view.distance / 500, 0.05);
    camera.far = wide * 2;
    camera.position.set(eye.x, eye.y, eye.z);
    camera.up.set(u.x, u.y, u.z);
    camera.lookAt(eye.x + d.x, eye.y + d.y, eye.z + d.z);
    camera.updateProjectionMatrix();
    camera.updateMatrixWorld();
    return eye;
  }

  paint() {
    const eye = this.place();
    const start = performance.now();
    let done = true;
    this.terrains.forEach((t, i) => {
      t.group.visible = this.shows(i);
      t.group.scale.z = 1;
      t.material.uniforms.up.value = this.up;
      t.material.uniforms.steeper.value = this.exaggeration;
      if (t.group.visible) done = t.refine(eye, this.height, this.exaggeration, this.started ? 30 : 1e9) && done;
    });
    this.started = true;
    if (this.inset) {
      const {terrain} = this.inset;
      const off = terrain.group.position;
      terrain.group.visible = this.ground && this.curtain === null && this.which === 0;
      if (terrain.group.visible) done = terrain.refine({x: eye.x - off.x, y: eye.y - off.y, z: eye.z}, this.height, this.exaggeration, 30) && done;
      this.terrains[0].material.uniforms.hole.value.set(...(terrain.group.visible ? this.inset.hole : [0, 0, 0, 0]));
    }
    if (this.water !== null) this.sea.position.z = this.water * this.up;
    this.sea.visible = this.water !== null;
    this.sea.scale.set(this.first.flat.width, this.first.flat.height, 1);
    const pixels = (this.height * (window.devicePixelRatio || 1)) / (2 * Math.tan((FIELD / 2) * (Math.PI / 180)));
    // Of a picture that is soon followed by another fewer points will do.
    const passing = this.moving || !done || Boolean(this.cloud?.loading);
    if (this.inset?.cloud) {
      this.inset.cloud.shown = this.cloud.shown;
      this.inset.cloud.prepare({x: eye.x - this.inset.cloud.group.position.x, y: eye.y - this.inset.cloud.group.position.y, z: eye.z}, this.up, pixels, passing);
    }
    this.cloud?.prepare(eye, this.up, pixels, passing);
    this.render();
    this.paintOver();
    // Without a card pictures are made elsewhere on this machine: asked for faster than they are made, they queue for minutes.
    if (this.software) this.settle();
    this.lastDraw = performance.now() - start;
    if (!done) this.draw();
    this.onView?.(this.view);
  }
  // Until the picture is made.
  settle() {
    const gl = this.renderer.getContext();
    gl.readPixels(0, 0, 1, 1, gl.RGBA, gl.UNSIGNED_BYTE, new Uint8Array(4));
  }
  render() {
    if (this.curtain !== null) this.renderHalves();
    else if (this.edges && !this.edgesOff && this.cloud?.shown) this.edges.render(this.renderer, this.scene, this.camera);
    else this.renderer.render(this.scene, this.camera);
  }
  // Points over the surface, from now on.
  setCloud(cloud) {
    this.cloud = cloud;
    this.edges = new Edges();
    this.scene.add(cloud.group);
  }
  // A part by finer cells, {surface, terrain, cloud, col, row, times}: drawn in place of the first surface there. Null: none.
  setInset(inset) {
    if (this.inset) {
      this.scene.remove(this.inset.terrain.group);
      this.inset.terrain.dispose();
      if (this.inset.cloud) this.scene.remove(this.inset.cloud.group);
    }
    this.inset = inset;
    this.terrains[0].material.uniforms.hole.value.set(0, 0, 0, 0);
    this.first.refine(inset);
    if (inset) {
      const {col, row, times, surface, terrain} = inset;
      const {flat} = this.first;
      const middle = {col: col + surface.cols / 2 / times, row: row + surface.rows / 2 / times};
      for (const group of [terrain.group, inset.cloud?.group]) group?.position.set(flat.x(middle.col, middle.row), flat.y(middle.row), 0);
      inset.hole = [col + 0.5 / times, row + 0.5 / times, col + (surface.cols - 0.5) / times, row + (surface.rows - 0.5) / times];
      this.scene.add(terrain.group);
      if (inset.cloud) this.scene.add(inset.cloud.group);
    }
    this.draw();
  }
  shows(i) {
    if (!this.ground) return false;
    return this.curtain === null ? i === this.which : i < 2;
  }
  // The first surface to the left of the curtain, the second to its right.
  renderHalves() {
    const at = Math.round(this.curtain * this.width);
    this.renderer.setScissorTest(true);
    this.terrains.forEach((t, i) => {
      if (i > 1) return;
      this.terrains.forEach((other, k) => {
        other.group.visible = k === i;
      });
      this.renderer.setScissor(i === 0 ? 0 : at, 0, i === 0 ? at : this.width - at, this.height);
      this.renderer.render(this.scene, this.camera);
    });
    this.renderer.setScissorTest(false);
  }

  paintOver() {
    const c = this.over.getContext('2d');
    const ratio = this.over.width / this.width;
    c.setTransform(ratio, 0, 0, ratio, 0, 0);
    c.clearRect(0, 0, this.width, this.height);
    for (const painter of this.painters) painter(c);
  }

  // Pixels of a place at a height; null behind the eye.
  screen(col, row, height) {
    const {flat} = this.first;
    const v = new THREE.Vector3(flat.x(col, row), flat.y(row), height * this.up).project(this.camera);
    if (v.z > 1) return null;
    return {x: ((v.x + 1) / 2) * this.width, y: ((1 - v.y) / 2) * this.height};
  }
  // What lies under a pixel of the canvas: {col, row, height} or null.
  under(x, y) {
    const v = new THREE.Vector3((x / this.width) * 2 - 1, 1 - (y / this.height) * 2, 0.5).unproject(this.camera);
    const p = this.camera.position;
    const along = {x: v.x - p.x, y: v.y - p.y, z: v.z - p.z};
    const long = Math.hypot(along.x, along.y, along.z);
    for (const axis of ['x', 'y', 'z']) along[axis] /= long;
    return this.surfaces[this.curtain === null ? this.which : x < this.curtain * this.width ? 0 : 1].hit(p, along, this.exaggeration);
  }
  // The same for a click: points count, too.
  struck(x, y) {
    const clouds = this.cloud?.shown ? [this.inset?.cloud, this.cloud].filter(Boolean) : [];
    let point = null;
    for (const cloud of clouds) point ??= cloud.pick(this.camera, this.up, this.width, this.height, x, y);
    if (point && this.inset?.cloud === point.cloud) {
      point.col = this.inset.col + point.col / this.inset.times;
      point.row = this.inset.row + point.row / this.inset.times;
    }
    if (point) delete point.cloud;
    return point ?? (this.ground ? this.under(x, y) : null);
  }
  flyTo(col, row) {
    const {flat} = this.first;
    const height = this.first.height(col, row);
    const distance = Math.min(this.view.walks ? Infinity : this.view.distance, 0.22 * Math.hypot(flat.width, flat.height));
    this.setView({...this.view, x: flat.x(col, row), y: flat.y(row), z: (Number.isNaN(height) ? 0 : height) * this.up,
      distance: Math.max(distance, this.least()), tilt: this.view.walks ? 40 : this.view.tilt, walks: false}, true);
  }
  walkFrom(col, row) {
    const {flat} = this.first;
    this.setView({...this.view, x: flat.x(col, row), y: flat.y(row), tilt: 0, walks: true});
  }

  // The view as a picture, lines and marks included.
  async png() {
    const slow = this.slow;
    this.slow = 1;
    this.setSize();
    this.place();
    this.render();
    this.paintOver();
    const out = document.createElement('canvas');
    out.width = this.over.width;
    out.height = this.over.height;
    const c = out.getContext('2d');
    c.fillStyle = getComputedStyle(this.canvas.parentElement).backgroundColor;
    c.fillRect(0, 0, out.width, out.height);
    c.drawImage(this.canvas, 0, 0, out.width, out.height);
    c.drawImage(this.over, 0, 0);
    this.slow = slow;
    this.setSize();
    this.draw();
    return new Promise((resolve) => out.toBlob(resolve, 'image/png'));
  }

  // ---- pointer, touch, keys

  // While something moves the picture may be coarser, where it would be too slow otherwise.
  hurry(moving) {
    clearTimeout(this.rest);
    this.moving = moving;
    const now = performance.now();
    const since = now - (this.before ?? 0);
    this.before = now;
    // Pictures that come more than 50 ms apart while a hand moves are late.
    this.late = moving && since > 50 && since < 400 ? (this.late ?? 0) + 1 : 0;
    if (this.software && moving && this.slow === 1) {
      this.slow = 0.6;
      this.setSize();
    } else if (this.late > 2 && this.slow > 0.5) {
      this.slow = Math.max(0.5, this.slow - 0.25);
      this.late = 0;
      this.setSize();
    }
    this.rest = setTimeout(() => {
      const waits = this.slow < 1 || (this.moving && this.cloud);
      this.moving = false;
      if (!waits) return;
      this.slow = 1;
      this.setSize();
      this.draw();
    }, 250);
  }

  metresPerPixel() {
    const away = this.view.walks ? 10 : this.view.distance;
    return (2 * away * Math.tan((FIELD / 2) * (Math.PI / 180))) / this.height;
  }

  listen() {
    const {over} = this;
    const pointers = new Map();
    let pressed = null;
    const at = (e) => {
      const box = over.getBoundingClientRect();
      return {x: e.clientX - box.left, y: e.clientY - box.top};
    };
    over.addEventListener('pointerdown', (e) => {
      over.setPointerCapture(e.pointerId);
      pointers.set(e.pointerId, at(e));
      pressed = pointers.size === 1 ? {...at(e), moved: false, pans: e.button === 2 || e.button === 1 || e.shiftKey} : pressed;
      if (pointers.size > 1 && pressed) pressed.moved = true;
      cancelAnimationFrame(this.flight);
    });
    over.addEventListener('pointermove', (e) => {
      const now = at(e);
      if (!pointers.has(e.pointerId)) {
        this.onHover?.(now.x, now.y);
        return;
      }
      const before = pointers.get(e.pointerId);
      if (pressed && !pressed.moved && Math.hypot(now.x - pressed.x, now.y - pressed.y) < 5) return;
      if (pressed) pressed.moved = true;
      if (pointers.size === 2) this.pinch(pointers, e.pointerId, now);
      else if (pressed?.pans) this.drag(before, now);
      else this.view = turned(this.view, (before.x - now.x) * -0.3 * (this.view.walks ? -0.5 : 1), (now.y - before.y) * 0.25 * (this.view.walks ? -0.6 : 1));
      pointers.set(e.pointerId, now);
      this.hurry(true);
      this.draw();
    });
    const ends = (e) => {
      const was = pressed;
      pointers.delete(e.pointerId);
      if (pointers.size > 0) return;
      pressed = null;
      if (e.type === 'pointerup' && was && !was.moved && !was.pans) this.onClick?.(at(e).x, at(e).y);
    };
    over.addEventListener('pointerup', ends);
    over.addEventListener('pointercancel', ends);
    over.addEventListener('pointerleave', () => this.onHover?.(NaN, NaN));
    over.addEventListener('contextmenu', (e) => e.preventDefault());
    over.addEventListener('dblclick', (e) => this.onDouble?.(at(e).x, at(e).y));
    over.addEventListener('wheel', (e) => {
      e.preventDefault();
      const by = Math.exp(Math.min(Math.max(e.deltaY * (e.deltaMode ? 16 : 1), -240), 240) * 0.0015);
      this.zoom(by, at(e));
      this.hurry(true);
    }, {passive: false});
    over.addEventListener('keydown', (e) => this.key(e));
  }
  drag(before, now) {
    const metres = this.metresPerPixel();
    const flatness = Math.max(Math.sin(this.view.tilt * (Math.PI / 180)), 0.2);
    this.view = moved(this.view, (before.x - now.x) * metres, ((now.y - before.y) * metres) / flatness);
  }
  pinch(pointers, id, now) {
    const other = [...pointers.entries()].find(([k]) => k !== id)[1];
    const before = pointers.get(id);
    const was = Math.hypot(before.x - other.x, before.y - other.y);
    const is = Math.hypot(now.x - other.x, now.y - other.y);
    if (was > 0 && is > 0 && !this.view.walks) this.view = zoomed(this.view, was / is, null, this.least(), this.most());
    const turn = Math.atan2(now.y - other.y, now.x - other.x) - Math.atan2(before.y - other.y, before.x - other.x);
    this.view = turned(this.view, (-turn * 180) / Math.PI, 0);
    this.drag({x: before.x / 2, y: before.y / 2}, {x: now.x / 2, y: now.y / 2});
  }
  zoom(by, at) {
    if (this.view.walks) {
      this.view = moved(this.view, 0, by < 1 ? 2 : -2);
      this.draw();
      return;
    }
    const hit = at ? this.under(at.x, at.y) : null;
    const {flat} = this.first;
    const towards = hit ? {x: flat.x(hit.col, hit.row), y: flat.y(hit.row), z: hit.height * this.up} : null;
    this.view = zoomed(this.view, by, towards, this.least(), this.most());
    this.draw();
  }
  key(e) {
    if (e.ctrlKey || e.altKey || e.metaKey) return;
    const far = (this.view.walks ? 2 : 0.06 * this.view.distance);
    const turns = {ArrowLeft: [-6, 0], ArrowRight: [6, 0], ArrowUp: [0, 4], ArrowDown: [0, -4]};
    const ways = {ArrowLeft: [-far, 0], ArrowRight: [far, 0], ArrowUp: [0, far], ArrowDown: [0, -far]};
    const walks = {w: [0, far], s: [0, -far], a: [-far, 0], d: [far, 0]};
    if (this.view.walks && e.key === 'ArrowUp') this.view = moved(this.view, 0, far);
    else if (this.view.walks && e.key === 'ArrowDown') this.view = moved(this.view, 0, -far);
    else if (turns[e.key] && !e.shiftKey) this.view = turned(this.view, ...turns[e.key]);
    else if (ways[e.key]) this.view = moved(this.view, ...ways[e.key]);
    else if (walks[e.key]) this.view = moved(this.view, ...walks[e.key]);
    else if (e.key === '+' || e.key === '=') this.zoom(0.8, null);
    else if (e.key === '-') this.zoom(1.25, null);
    else if (this.onKey?.(e.key)) return e.preventDefault();
    else return;
    e.preventDefault();
    this.draw();
  }
}
