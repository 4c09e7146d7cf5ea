// A map on two canvases: what stays, drawn when the view changes, and above it what follows the pointer. Knows a plane and
// nothing of what is drawn: layers are functions (context, map).
import { dragged, fitted, seen, toPixel, toPlace, zoomed } from './plane.js';
import { el } from '../base/dom.js';

export class PlaneMap {
  // `box`: what is seen first; `wide`: see plane.js; `label`: for those who hear the page.
  constructor(parent, {box, wide = 1, label}) {
    this.ground = el('canvas', {'aria-hidden': 'true'});
    this.above = el('canvas', {class: 'above', tabindex: 0, role: 'application', 'aria-label': label});
    parent.append(this.ground, this.above);
    Object.assign(this, {parent, box, wide, layers: [], marks: [], draws: null, fit: true});
    this.size = {width: 1, height: 1};
    this.view = fitted(box, 800, 600, wide);
    this.listen();
    new ResizeObserver(() => this.resize()).observe(parent);
    this.resize();
  }
  resize() {
    this.size = {width: Math.max(this.parent.clientWidth, 1), height: Math.max(this.parent.clientHeight, 1)};
    this.ratio = Math.min(window.devicePixelRatio || 1, 2);
    for (const canvas of [this.ground, this.above]) {
      canvas.width = this.size.width * this.ratio;
      canvas.height = this.size.height * this.ratio;
    }
    if (this.fit) this.view = fitted(this.box, this.size.width, this.size.height, this.wide);
    this.paint();
    this.mark();
  }
  show(box) {
    this.fit = false;
    this.view = fitted(box, this.size.width, this.size.height, this.wide, 0.15);
    this.redraw();
  }
  whole() {
    this.fit = true;
    this.view = fitted(this.box, this.size.width, this.size.height, this.wide);
    this.redraw();
  }
  px(x, y) {
    return toPixel(this.view, this.size, x, y);
  }
  place(px, py) {
    return toPlace(this.view, this.size, px, py);
  }
  seen() {
    return seen(this.view, this.size);
  }

  redraw() {
    if (this.wanted) return;
    this.wanted = true;
    requestAnimationFrame(() => {
      this.wanted = false;
      this.paint();
      this.mark();
    });
  }
  paint() {
    this.clear(this.ground, this.layers);
    this.onView?.();
  }
  mark() {
    this.clear(this.above, this.marks);
  }
  clear(canvas, list) {
    const c = canvas.getContext('2d');
    c.setTransform(this.ratio, 0, 0, this.ratio, 0, 0);
    c.clearRect(0, 0, this.size.width, this.size.height);
    for (const layer of list) layer(c, this);
  }
  // The outline of polygons, to be filled or stroked.
  path(c, shape) {
    c.beginPath();
    for (const rings of shape) {
      for (const ring of rings) {
        ring.forEach(([x, y], i) => {
          const p = this.px(x, y);
          if (i === 0) c.moveTo(p.x, p.y);
          else c.lineTo(p.x, p.y);
        });
        c.closePath();
      }
    }
  }
  // A picture whose pixels lie over a box.
  picture(c, image, [w, s, e, n], opacity = 1) {
    const a = this.px(w, n);
    const b = this.px(e, s);
    c.globalAlpha = opacity;
    c.imageSmoothingEnabled = b.x - a.x < 4 * image.width;
    c.drawImage(image, a.x, a.y, b.x - a.x, b.y - a.y);
    c.globalAlpha = 1;
  }

  // ---- hands. `draws` (null, or {down, move, up}) takes the pointer instead of moving the map.
  at(e) {
    const box = this.above.getBoundingClientRect();
    return {x: e.clientX - box.left, y: e.clientY - box.top};
  }
  zoom(by, x, y) {
    const least = fitted(this.box, this.size.width, this.size.height, this.wide).scale;
    this.look(zoomed(this.view, this.size, by, x, y, least / 20, least * 5000));
  }
  look(view) {
    this.fit = false;
    this.view = view;
    this.redraw();
  }

  listen() {
    const {above} = this;
    this.pointers = new Map();
    above.addEventListener('pointerdown', (e) => this.press(e));
    above.addEventListener('pointermove', (e) => this.move(e));
    above.addEventListener('pointerup', (e) => this.release(e));
    above.addEventListener('pointercancel', (e) => this.release(e));
    above.addEventListener('pointerleave', () => this.onHover?.(NaN, NaN));
    above.addEventListener('dblclick', () => this.draws?.end?.());
    above.addEventListener('wheel', (e) => {
      e.preventDefault();
      const p = this.at(e);
      this.zoom(Math.exp(-Math.min(Math.max(e.deltaY * (e.deltaMode ? 16 : 1), -240), 240) * 0.0015), p.x, p.y);
    }, {passive: false});
    above.addEventListener('keydown', (e) => this.key(e));
  }
  press(e) {
    this.above.setPointerCapture(e.pointerId);
    this.start = this.at(e);
    this.pointers.set(e.pointerId, this.start);
    this.moved = this.pointers.size > 1;
    if (this.pointers.size === 1 && e.button === 0) this.draws?.down?.(this.place(this.start.x, this.start.y));
  }
  move(e) {
    const now = this.at(e);
    const before = this.pointers.get(e.pointerId);
    if (!before) {
      this.draws?.hover?.(this.place(now.x, now.y));
      this.onHover?.(now.x, now.y);
      return;
    }
    if (!this.moved && Math.hypot(now.x - this.start.x, now.y - this.start.y) < 4) return;
    this.moved = true;
    if (this.pointers.size === 2) this.pinch(e.pointerId, before, now);
    else if (this.draws?.move) this.draws.move(this.place(now.x, now.y));
    else this.look(dragged(this.view, now.x - before.x, now.y - before.y));
    this.pointers.set(e.pointerId, now);
  }
  pinch(id, before, now) {
    const other = [...this.pointers.entries()].find(([k]) => k !== id)[1];
    const was = Math.hypot(before.x - other.x, before.y - other.y);
    const is = Math.hypot(now.x - other.x, now.y - other.y);
    this.view = dragged(this.view, (now.x - before.x) / 2, (now.y - before.y) / 2);
    this.zoom(was > 0 ? is / was : 1, (now.x + other.x) / 2, (now.y + other.y) / 2);
  }
  release(e) {
    if (!this.pointers.delete(e.pointerId) || this.pointers.size > 0 || e.type !== 'pointerup') return;
    const p = this.at(e);
    if (this.draws?.up) this.draws.up(this.place(p.x, p.y), this.moved);
    else if (!this.moved) this.onClick?.(p.x, p.y);
  }
  key(e) {
    if (e.ctrlKey || e.altKey || e.metaKey || this.onKey?.(e)) return;
    const far = 60;
    const ways = {ArrowLeft: [far, 0], ArrowRight: [-far, 0], ArrowUp: [0, far], ArrowDown: [0, -far]};
    const zooms = {'+': 1.25, '=': 1.25, '-': 0.8};
    if (ways[e.key]) this.look(dragged(this.view, ...ways[e.key]));
    else if (zooms[e.key]) this.zoom(zooms[e.key], this.size.width / 2, this.size.height / 2);
    else if (e.key === '0') this.whole();
    else if (e.key === 'Escape' && this.draws?.cancel) this.draws.cancel();
    else if (e.key === 'Enter' && this.draws?.end) this.draws.end();
    else return;
    e.preventDefault();
  }
}
