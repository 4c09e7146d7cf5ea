// The page of a surface: reads its data, builds the scene and what stands around it.
import { byId, copy, el, factsOf, fileName, hush, save, say, textOf, themeButton, whenWhole } from '../base/dom.js';
import { volumeOf } from '../base/measures.js';
import { legend, pageData } from '../base/drapes.js';
import { areaText, numeral, roundBelow, volumeText } from '../base/numbers.js';
import { Ground } from '../base/ground.js';
import { bytesOf, readPlane } from '../base/planes.js';
import { Surface } from '../base/surface.js';
import { bar, tone, words } from '../map/ink.js';
import { Asking, TOOLS } from './asking.js';
import { viewFrom, viewText } from './camera.js';
import { Cloud, MODES } from './cloud.js';
import { Service, stillGood, wantedLevel } from './live.js';
import { Terrain } from './terrain.js';
import { Scene } from './scene.js';

// ---- controls

const field = (label, input, ...after) => el('label', {class: 'field'}, el('span', {}, label), input, ...after);
function slider(label, {min, max, step, value, show, oninput}) {
  const out = el('output', {}, show(value));
  const input = el('input', {type: 'range', min, max, step, value, oninput: () => {
    out.textContent = show(Number(input.value));
    oninput(Number(input.value));
  }});
  const whole = field(label, input, out);
  whole.set = (v) => {
    input.value = v;
    out.textContent = show(v);
    oninput(v);
  };
  return whole;
}
function group(title, open, ...parts) {
  return el('details', {class: 'group', open}, el('summary', {}, title), ...parts);
}

class Page {
  async start() {
    const facts = factsOf('facts');
    this.facts = facts;
    const data = await pageData(facts, textOf);
    Object.assign(this, {surfaces: data.surfaces, drapes: data.drapes});
    this.build();
    this.scene = new Scene(byId('scene'), byId('over'), this.surfaces);
    if (facts.points) {
      this.cloud = new Cloud(facts.points, bytesOf(textOf('points')), this.surfaces[0], !this.scene.software);
      this.scene.setCloud(this.cloud);
    }
    const live = document.getElementById('live');
    if (live) {
      this.live = JSON.parse(live.textContent);
      this.service = new Service(this.live);
    }
    this.controls();
    this.asking = new Asking(this.scene, facts, data.questions, byId('answer'), byId('drawer'));
    this.asking.onChange = () => this.cloud && this.cutSlab();
    this.scene.painters.push((c) => this.paintPins(c), (c) => this.paintNorth(c));
    window.addEventListener('beforeprint', () => this.scene.paint());
    this.scene.onHover = (x, y) => this.hover(x, y);
    this.scene.onKey = (key) => this.key(key);
    this.scene.onView = () => {
      this.remember();
      if (!this.live) return;
      clearTimeout(this.nearing);
      this.nearing = setTimeout(() => this.comeNear(), 350);
    };
    const click = this.scene.onClick;
    this.scene.onClick = (x, y) => (this.walking ? this.stand(x, y) : this.pinAt(x, y) ? undefined : click(x, y));
    this.drape(0);
    this.sun(315, 45);
    this.recall();
    this.scene.paint();
    hush();
    this.ready();
    if (this.cloud) {
      await this.cloud.load(() => this.scene.draw());
      document.documentElement.dataset.points = 'true';
      this.scene.draw();
    }
  }

  // For what drives the page by a program.
  ready() {
    window.katoptra = {
      drawn: performance.now(), scene: this.scene, asking: this.asking, surfaces: this.surfaces, page: this,
      triangles: () => this.scene.terrains.reduce((n, t) => n + t.triangles, 0),
    };
    document.documentElement.dataset.ready = 'true';
  }

  build() {
    const {facts} = this;
    const s = facts.surfaces[0];
    const shown = s.times > 1 && document.getElementById('live') ? ' Finer cells come where you come near.' : s.times > 1 ? ` Shown by cells ${numeral(s.times, 0)} times as wide as its own ${numeral(s.cols, 0)} × ${numeral(s.rows, 0)}; so are its answers.` : '';
    const about = [facts.frame.crs || 'no CRS: nobody can tell where it lies', s.heights ? `heights in ${s.unit}, ${s.heights}` : `heights in ${s.unit}, reference unknown`,
      `${numeral(facts.frame.cols, 0)} × ${numeral(facts.frame.rows, 0)} cells`, `steps of ${facts.planes[s.plane].step} ${s.unit}`].join(' · ');
    const title = el('header', {class: 'title'}, el('h1', {}, facts.title), el('p', {}, `${about}.${shown}`));
    const box = el('div', {id: 'box'}, el('canvas', {id: 'scene', 'aria-hidden': 'true'}),
      el('canvas', {id: 'over', tabindex: 0, role: 'application', 'aria-label': `${facts.title}, a surface in three dimensions. Arrow keys turn it, with shift they move it, plus and minus come nearer and go away, Enter asks for the middle.`}),
      title, el('p', {id: 'readout'}));
    const stage = el('div', {id: 'stage'}, box, el('div', {id: 'drawer', hidden: true}));
    const panel = el('aside', {id: 'panel', 'aria-label': 'what is shown and asked'});
    const handle = el('button', {type: 'button', id: 'handle', 'aria-expanded': 'true', 'aria-controls': 'panel', onclick: () => {
      const closed = document.body.classList.toggle('closed');
      handle.setAttribute('aria-expanded', String(!closed));
    }}, 'Panel');
    document.body.classList.add('view');
    if (matchMedia('(max-width: 700px)').matches) document.body.classList.add('closed');
    document.body.append(stage, panel, handle);
    this.panel = panel;
  }

  controls() {
    const {facts, scene} = this;
    const tools = el('div', {class: 'tools', role: 'radiogroup', 'aria-label': 'what a click does'},
      ...TOOLS.map((t) => el('button', {type: 'button', role: 'radio', 'data-tool': t.name, 'aria-checked': String(t.name === 'ask'), title: t.hint,
        onclick: () => this.take(t.name)}, t.label)));
    const select = el('select', {id: 'drape', onchange: () => this.drape(Number(select.value))},
      ...this.drapes.map((d, i) => el('option', {value: i}, d.label)));
    this.select = select;
    const span = this.surfaces[0].high - this.surfaces[0].low;
    const unit = facts.surfaces[0].unit;
    const interval = el('input', {type: 'number', min: 0, step: 'any', value: '', placeholder: 'none', id: 'interval',
      onchange: () => this.contours(Number(interval.value) || 0)});
    const usual = roundBelow(span / 12 || 1);
    const spin = (name, ...values) => slider(name, ...values);
    this.exaggeration = spin('exaggerated', {min: -0.7, max: 1.301, step: 0.001, value: 0, show: (v) => `${numeral(times(v), times(v) < 3 ? 2 : 1)} ×`,
      oninput: (v) => this.exaggerate(times(v))});
    this.panel.append(
      el('div', {class: 'row top'}, el('b', {class: 'grow'}, 'Ask'), themeButton()), tools, el('div', {id: 'answer', 'aria-live': 'polite'}),
      group('Colours', true, field('by', select), el('ul', {class: 'legend', id: 'legend'}), this.exaggeration),
      group('Light', false,
        slider('from', {min: 0, max: 359, step: 1, value: 315, show: (v) => `${v}°`, oninput: (v) => this.sun(v, this.altitude)}),
        slider('height', {min: 5, max: 90, step: 1, value: 45, show: (v) => `${v}°`, oninput: (v) => this.sun(this.azimuth, v)}),
        el('label', {class: 'check'}, el('input', {type: 'checkbox', checked: true, onchange: (e) => {
          scene.terrains.forEach((t) => { t.material.uniforms.lit.value = e.target.checked ? 1 : 0; });
          scene.draw();
        }}), 'lit')),
      group('Contours', true, field('every', interval, unit, el('button', {type: 'button', onclick: () => {
        interval.value = interval.value === '' ? usual : '';
        this.contours(Number(interval.value) || 0);
      }}, 'on, off'))),
      this.pointsGroup(unit), this.waterGroup(unit), this.surfacesGroup(), this.pinsGroup(), this.linesGroup(), this.viewsGroup());
    scene.over.setAttribute('aria-describedby', 'answer');
  }

  pointsGroup(unit) {
    const {facts, cloud, scene} = this;
    if (!cloud) return '';
    const p = facts.points;
    const check = (label, on, change, swatch) => el('label', {class: 'check'}, el('input', {type: 'checkbox', checked: on, 'data-switch': label, onchange: (e) => {
      change(e.target.checked);
      scene.draw();
    }}), swatch ?? '', label);
    const swatchOf = (colour) => {
      const i = el('i', {class: 'swatch'});
      i.style.background = `#${colour}`;
      return i;
    };
    const modes = MODES.filter((m) => m !== 'colour' || p.colours);
    const by = el('select', {id: 'points-by', onchange: () => {
      cloud.material.uniforms.mode.value = MODES.indexOf(by.value);
      scene.draw();
    }}, ...modes.map((m) => el('option', {value: m}, m)));
    by.value = MODES[cloud.material.uniforms.mode.value];
    const told = this.live?.points ? `${numeral(p.shown, 0)} of ${numeral(this.live.all_points, 0)} points; where you come near, all of them.` : p.shown < p.there ? `${numeral(p.shown, 0)} of ${numeral(p.there, 0)} points, chosen evenly.` : `${numeral(p.shown, 0)} points.`;
    this.slabWide = 2;
    return group('Points', true, el('p', {class: 'hint'}, told), check('points', true, (on) => { cloud.shown = on; }), check('the surface below', true, (on) => { scene.ground = on; }),
      field('by', by),
      slider('size', {min: -1.2, max: 1, step: 0.01, value: Math.log10(cloud.material.uniforms.size.value), show: (v) => `${numeral(10 ** v, 2)} m`, oninput: (v) => {
        cloud.material.uniforms.size.value = 10 ** v;
        scene.draw();
      }}),
      slider('edges', {min: 0, max: 3, step: 0.05, value: 1, show: (v) => (v === 0 ? 'off' : numeral(v, 2)), oninput: (v) => {
        if (v > 0) scene.edges.strength = v;
        scene.edgesOff = v === 0;
        scene.draw();
      }}),
      el('details', {}, el('summary', {}, 'Classes'), ...p.classes.map((k) => check(`${k.code} ${k.name}: ${numeral(k.points, 0)}`, true, (on) => cloud.switchClass(k.code, on), swatchOf(k.colour)))),
      el('details', {}, el('summary', {}, 'Returns'), ...p.returns.map((t) => check(`return ${t.number}: ${numeral(t.points, 0)}`, true, (on) => cloud.switchReturn(t.number, on)))),
      check('only beside the section', false, (on) => {
        this.slab = on;
        this.cutSlab();
      }),
      slider('within', {min: 0.25, max: 50, step: 0.25, value: 2, show: (v) => `${numeral(v, 2)} m`, oninput: (v) => {
        this.slabWide = v;
        this.cutSlab();
      }}), unit === 'm' ? '' : el('p', {class: 'hint'}, 'Sizes on the ground are in metres.'));
  }
  // Points within reach of the line from the first to the last corner of the section that was asked for.
  cutSlab() {
    const {corners, tool} = this.asking;
    const {flat} = this.surfaces[0];
    if (this.slab && tool === 'section' && corners.length > 1) {
      const [a, b] = [corners[0], corners[corners.length - 1]];
      this.cloud.cut([flat.x(a.col, a.row), flat.y(a.row)], [flat.x(b.col, b.row), flat.y(b.row)], this.slabWide);
    } else this.cloud.cut(null);
    this.scene.draw();
  }

  surfacesGroup() {
    const {facts, scene} = this;
    if (this.surfaces.length < 2) return '';
    const choose = el('select', {onchange: () => {
      scene.which = Number(choose.value);
      scene.draw();
    }}, ...facts.surfaces.map((s, i) => el('option', {value: i}, s.label)));
    const blink = el('input', {type: 'checkbox', onchange: () => {
      clearInterval(this.blinking);
      if (!blink.checked) return;
      this.blinking = setInterval(() => {
        scene.which = (scene.which + 1) % this.surfaces.length;
        choose.value = scene.which;
        scene.draw();
      }, 900);
    }});
    const curtain = el('input', {type: 'checkbox', onchange: () => {
      scene.curtain = curtain.checked ? 0.5 : null;
      at.hidden = !curtain.checked;
      scene.draw();
    }});
    const at = slider('at', {min: 0, max: 100, step: 0.5, value: 50, show: (v) => `${v} %`, oninput: (v) => {
      if (scene.curtain === null) return;
      scene.curtain = v / 100;
      scene.draw();
    }});
    at.hidden = true;
    return group('Surfaces', true, field('seen', choose), el('label', {class: 'check'}, blink, 'blink between them'),
      el('label', {class: 'check'}, curtain, 'curtain: the first to the left, the second to the right'), at);
  }

  waterGroup(unit) {
    const {scene} = this;
    const first = this.surfaces[0];
    const told = el('dl', {class: 'answer', id: 'water'});
    const show = (v) => `${numeral(v, 2)} ${unit}`;
    let waiting = null;
    const level = slider('level', {min: first.low, max: first.high, step: (first.high - first.low) / 1000 || 1, value: Math.max(first.low, Math.min(0, first.high)), show,
      oninput: (v) => {
        this.waterLevel = v;
        if (!on.checked) on.checked = true;
        this.water(v);
        clearTimeout(waiting);
        waiting = setTimeout(() => tell(v), 120);
      }});
    const exact = el('input', {type: 'number', step: 'any', id: 'level', 'aria-label': `level in ${unit}`, onchange: () => {
      if (exact.value === '') return;
      this.waterLevel = Number(exact.value);
      on.checked = true;
      this.water(this.waterLevel);
      tell(this.waterLevel);
    }});
    const tell = (v) => {
      const w = volumeOf(first, null, v);
      told.replaceChildren(el('dt', {}, 'below it'), el('dd', {}, `${areaText(w.under)}, ${volumeText(w.below)}`));
      exact.value = Math.round(v * 1000) / 1000;
      if (this.asking.tool === 'area') this.asking.tell();
    };
    const on = el('input', {type: 'checkbox', onchange: () => {
      this.water(on.checked ? this.waterLevel ?? Math.max(first.low, Math.min(0, first.high)) : null);
      if (on.checked) tell(scene.water);
      else told.replaceChildren();
    }});
    return group('Water', false, el('label', {class: 'check'}, on, 'a level surface of water'), level, field('exactly', exact, unit), told);
  }
  water(level) {
    this.scene.water = level;
    this.scene.terrains.forEach((t) => { t.material.uniforms.level.value = level ?? -1e30; });
    this.scene.draw();
  }

  pinsGroup() {
    const {facts, scene} = this;
    if (facts.pins.length === 0) return '';
    const list = el('ul', {class: 'pins'}, ...facts.pins.map((p, i) => el('li', {class: p.tone}, el('button', {type: 'button', onclick: () => this.pin(i)}, p.name))));
    this.shownPins = true;
    return group(`Pins (${facts.pins.length})`, facts.pins.length <= 12, el('label', {class: 'check'}, el('input', {type: 'checkbox', checked: true, onchange: (e) => {
      this.shownPins = e.target.checked;
      scene.draw();
    }}), 'on the surface'), list, el('p', {id: 'pin', 'aria-live': 'polite'}));
  }
  pin(i) {
    const p = this.facts.pins[i];
    this.chosen = i;
    byId('pin').textContent = `${p.name}: ${p.text}`;
    byId('pin').closest('details').open = true;
    this.scene.flyTo(p.at[0], p.at[1]);
  }
  linesGroup() {
    const {facts} = this;
    if (facts.lines.length === 0) return '';
    return group('Lines', true, el('ul', {class: 'pins'}, ...facts.lines.map((l) => el('li', {}, el('button', {type: 'button', onclick: () => {
      this.take('section');
      this.asking.follow(l.points);
    }}, `section along ${l.name}`)))));
  }

  viewsGroup() {
    const {scene, facts} = this;
    const button = (label, f, title) => el('button', {type: 'button', title, onclick: f}, label);
    return group('View', true, el('div', {class: 'row wrap'},
      button('Whole', () => scene.setView(scene.home(), true), 'all of it (F)'),
      button('North up', () => scene.setView({...scene.view, bearing: 0}, true), 'look to the north (N)'),
      button('From above', () => scene.setView({...scene.home(scene.view.bearing, 90)}, true), 'straight down (T)'),
      button('Walk', () => this.startWalk(), 'stand where you click next, at eye height (W, A, S, D or arrows to go)'),
      button('Copy address', () => copy(location.href), 'the address of this page with this view'),
      button('Save PNG', async () => save(fileName(facts.title, '.png'), await scene.png(), 'image/png'), 'this view as a picture')));
  }

  // ---- what controls do

  take(tool) {
    this.walking = false;
    for (const b of this.panel.querySelectorAll('[data-tool]')) b.setAttribute('aria-checked', String(b.dataset.tool === tool));
    this.asking.take(tool);
  }
  drape(i) {
    const d = this.drapes[i];
    this.current = i;
    this.select.value = i;
    const {scene} = this;
    if (i < this.surfaces.length) scene.which = i;
    const colours = d.inColours();
    scene.terrains.forEach((t, k) => {
      // Each surface has its own heights' colours; what was made of the first lies on all.
      t.setColours(d.paint(i < this.surfaces.length ? this.surfaces[k] : null, t.surface.values), d.smooth, d.cols, d.rows);
    });
    legend(byId('legend'), colours, d.unit);
    this.colourInset();
    scene.draw();
  }
  colourInset() {
    const {inset} = this.scene;
    if (!inset) return;
    const d = this.drapes[this.current];
    inset.terrain.setColours(d.paintFiner(inset, this.surfaces[0]), d.smooth);
  }

  // Where one has come near, by finer cells from the service.
  async comeNear() {
    const {scene, live} = this;
    const {view, first} = scene;
    const cell = first.ground.scale(first.cols / 2, first.rows / 2).x / 2 ** live.level;
    const level = wantedLevel(view.walks ? cell / 2 : scene.metresPerPixel(), cell, live.level);
    const {col, row} = first.flat.cell(view.x, view.y);
    if (level >= live.level) {
      if (scene.inset) scene.setInset(null);
      this.part = null;
      return;
    }
    if (!first.inside(col, row) || stillGood(this.part, level, live, col, row)) return;
    try {
      const got = await this.service.part(level, col, row);
      if (!got) return;
      const {part, answer, points} = got;
      const values = await readPlane(answer.plane, bytesOf(answer.data));
      const times = 2 ** (live.level - part.level);
      const surface = new Surface(new Ground(answer.frame), values, first.facts);
      const terrain = new Terrain(surface, 4096, scene.terrains[0].most);
      terrain.follow(scene.terrains[0]);
      let cloud = null;
      if (points && this.cloud) {
        cloud = new Cloud(points.points, bytesOf(points.data), surface, !scene.software);
        cloud.follow(this.cloud);
        await cloud.load(() => {});
      }
      this.part = part;
      scene.setInset({surface, terrain, cloud, col: part.col / times, row: part.row / times, times});
      this.colourInset();
      this.tellCells(part.level);
    } catch (error) {
      say(`Finer cells did not come: ${error.message}. Is katoptra still running?`, 'brief');
      setTimeout(hush, 4000);
    }
  }
  tellCells(level) {
    document.documentElement.dataset.level = level;
  }
  sun(azimuth, altitude) {
    Object.assign(this, {azimuth, altitude});
    const a = (azimuth * Math.PI) / 180;
    const h = (altitude * Math.PI) / 180;
    this.scene.terrains.forEach((t) => t.material.uniforms.sun.value.set(Math.sin(a) * Math.cos(h), Math.cos(a) * Math.cos(h), Math.sin(h)));
    this.scene.draw();
  }
  contours(interval) {
    byId('interval').value = interval > 0 ? interval : '';
    this.scene.terrains.forEach((t) => { t.material.uniforms.interval.value = Math.max(interval, 0); });
    this.scene.draw();
  }
  exaggerate(by) {
    const {scene} = this;
    scene.view = {...scene.view, z: (scene.view.z / scene.exaggeration) * by};
    scene.exaggeration = by;
    scene.draw();
  }
  startWalk() {
    this.walking = true;
    say('Click where you want to stand. Arrow keys or W, A, S, D go; drag to look around; F leaves.', 'brief');
  }
  stand(x, y) {
    const hit = this.scene.under(x, y);
    if (!hit) return;
    this.walking = false;
    hush();
    this.scene.walkFrom(hit.col, hit.row);
    this.scene.over.focus();
  }
  key(key) {
    const {scene} = this;
    const middle = () => scene.under(scene.width / 2, scene.height / 2);
    if (key === 'f') scene.setView(scene.home(), true);
    else if (key === 'n') scene.setView({...scene.view, bearing: 0}, true);
    else if (key === 't') scene.setView(scene.home(scene.view.bearing, 90), true);
    else if (key === 'Enter') this.asking.click(middle());
    else if (key === 'Escape') this.asking.clear();
    else return false;
    return true;
  }

  hover(x, y) {
    const readout = byId('readout');
    const hit = Number.isNaN(x) ? null : this.scene.under(x, y);
    this.asking.hover(hit);
    if (!hit) {
      readout.textContent = '';
      return;
    }
    const rows = this.asking.atPlace(hit, false).filter(([k]) => k !== '');
    readout.textContent = rows.map(([k, v]) => (k === 'place' ? v : `${k} ${v}`)).join('   ');
  }

  // ---- marks on the picture

  paintPins(c) {
    if (!this.shownPins) return;
    const tones = {failure: 'bad', warning: 'warn', note: 'quiet', control: 'accent'};
    this.pinPlaces = [];
    this.facts.pins.forEach((p, i) => {
      const height = this.surfaces[0].height(p.at[0], p.at[1]);
      const at = this.scene.screen(p.at[0], p.at[1], Number.isNaN(height) ? this.surfaces[0].low : height);
      if (!at) return;
      this.pinPlaces.push({i, x: at.x, y: at.y - 16});
      c.strokeStyle = tone('paper');
      c.fillStyle = tone(tones[p.tone] ?? 'quiet');
      c.lineWidth = 1.5;
      c.beginPath();
      if (p.tone === 'control') {
        // Many, and right where they stand: a dot.
        this.pinPlaces[this.pinPlaces.length - 1].y = at.y;
        c.arc(at.x, at.y, 4, 0, 2 * Math.PI);
      } else {
        c.moveTo(at.x, at.y);
        c.lineTo(at.x - 4, at.y - 11);
        c.arc(at.x, at.y - 16, 6.5, Math.PI * 0.8, Math.PI * 2.2);
        c.closePath();
      }
      c.fill();
      c.stroke();
      if (i !== this.chosen) return;
      words(c, p.name, at.x + 10, at.y - 12, 'left', {font: '600 13px', around: 'paper', width: 4});
    });
  }
  pinAt(x, y) {
    const found = (this.shownPins && this.pinPlaces ? this.pinPlaces : []).find((p) => Math.hypot(p.x - x, p.y - y) < 9);
    if (!found || this.asking.tool !== 'ask') return false;
    this.pin(found.i);
    return true;
  }
  // Which way north is, and how long a step on the picture is at what is looked at.
  paintNorth(c) {
    const {scene} = this;
    const x = 34;
    const y = scene.height - 34;
    const turn = (-scene.view.bearing * Math.PI) / 180;
    c.save();
    c.translate(x, y);
    c.rotate(turn);
    c.fillStyle = tone('ink');
    c.strokeStyle = tone('ground');
    c.lineWidth = 3;
    c.beginPath();
    c.moveTo(0, -18);
    c.lineTo(6, 6);
    c.lineTo(0, 2);
    c.lineTo(-6, 6);
    c.closePath();
    c.stroke();
    c.fill();
    words(c, 'N', 0, 20, 'center', {font: '600 12px'});
    c.restore();
    if (scene.view.walks) return;
    bar(c, x + 30, y + 6, scene.metresPerPixel(), 'left');
  }

  // ---- the address

  remember() {
    clearTimeout(this.remembering);
    this.remembering = setTimeout(() => {
      const text = `view=${viewText(this.scene.view)}&by=${numeral(this.scene.exaggeration, 3)}&drape=${this.current}`;
      try {
        history.replaceState(null, '', `#${text}`);
      } catch {
        // some browsers keep files from changing their address
      }
    }, 300);
  }
  recall() {
    const words = new URLSearchParams(location.hash.slice(1));
    const by = Number(words.get('by'));
    if (by >= 0.2 && by <= 20) this.exaggeration.set(Math.log10(by));
    const view = viewFrom(words.get('view') ?? '');
    if (view) this.scene.view = view;
    const drape = Number(words.get('drape'));
    if (Number.isInteger(drape) && drape > 0 && drape < this.drapes.length) this.drape(drape);
  }
}

// Exaggerations on a slider of powers; what is nearly one is one.
function times(power) {
  const v = Math.min(Math.max(10 ** power, 0.2), 20);
  return Math.abs(v - 1) < 0.03 ? 1 : v;
}

whenWhole(async () => {
  await new Page().start();
});
