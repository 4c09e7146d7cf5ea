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
  listen() {
    const {above} = this;
    const pointers = new Map();
    let moved = false;
    let start = null;
    const at = (e) => {
      const box = above.getBoundingClientRect();
      return {x: e.clientX - box.left, y: e.clientY - box.top};
    };
    const limits = () => {
      const least = fitted(this.box, this.size.width, this.size.height, this.wide).scale;
      return [least / 20, least * 5000];
    };
    above.addEventListener('pointerdown', (e) => {
      above.setPointerCapture(e.pointerId);
      pointers.set(e.pointerId, at(e));
      start = at(e);
      moved = pointers.size > 1;
      if (pointers.size === 1 && e.button === 0) this.draws?.down?.(this.place(start.x, start.y), start);
    });
    above.addEventListener('pointermove', (e) => {
      const now = at(e);
      const before = pointers.get(e.pointerId);
      if (!before) {
        this.draws?.hover?.(this.place(now.x, now.y));
        this.onHover?.(now.x, now.y);
        return;
      }
      if (!moved && Math.hypot(now.x - start.x, now.y - start.y) < 4) return;
      moved = true;
      if (pointers.size === 2) {
        const other = [...pointers.entries()].find(([k]) => k !== e.pointerId)[1];
        const was = Math.hypot(before.x - other.x, before.y - other.y);
        const is = Math.hypot(now.x - other.x, now.y - other.y);
        this.fit = false;
        this.view = dragged(this.view, (now.x - before.x) / 2, (now.y - before.y) / 2);
        if (was > 0) this.view = zoomed(this.view, this.size, is / was, (now.x + other.x) / 2, (now.y + other.y) / 2, ...limits());
        this.redraw();
      } else if (this.draws?.move) {
        this.draws.move(this.place(now.x, now.y), now);
      } else {
        this.fit = false;
        this.view = dragged(this.view, now.x - before.x, now.y - before.y);
        this.redraw();
      }
      pointers.set(e.pointerId, now);
    });
    const ends = (e) => {
      if (!pointers.delete(e.pointerId) || pointers.size > 0) return;
      const p = at(e);
      if (e.type !== 'pointerup') return;
      if (this.draws?.up) this.draws.up(this.place(p.x, p.y), moved);
      else if (!moved) this.onClick?.(p.x, p.y);
    };
    above.addEventListener('pointerup', ends);
    above.addEventListener('pointercancel', ends);
    above.addEventListener('pointerleave', () => this.onHover?.(NaN, NaN));
    above.addEventListener('dblclick', () => this.draws?.end?.());
    above.addEventListener('wheel', (e) => {
      e.preventDefault();
      const p = at(e);
      const by = Math.exp(-Math.min(Math.max(e.deltaY * (e.deltaMode ? 16 : 1), -240), 240) * 0.0015);
      this.fit = false;
      this.view = zoomed(this.view, this.size, by, p.x, p.y, ...limits());
      this.redraw();
    }, {passive: false});
    above.addEventListener('keydown', (e) => {
      if (e.ctrlKey || e.altKey || e.metaKey || this.onKey?.(e)) return;
      const far = 60;
      const ways = {ArrowLeft: [far, 0], ArrowRight: [-far, 0], ArrowUp: [0, far], ArrowDown: [0, -far]};
      if (ways[e.key]) this.view = dragged(this.view, ...ways[e.key]);
      else if (e.key === '+' || e.key === '=' || e.key === '-') {
        this.view = zoomed(this.view, this.size, e.key === '-' ? 0.8 : 1.25, this.size.width / 2, this.size.height / 2, ...limits());
      } else if (e.key === '0') {
        this.whole();
        return;
      } else if (e.key === 'Escape' && this.draws?.cancel) this.draws.cancel();
      else if (e.key === 'Enter' && this.draws?.end) this.draws.end();
      else return;
      this.fit = false;
      e.preventDefault();
      this.redraw();
    });
  }
}
