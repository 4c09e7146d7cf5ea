// Tiles as a person goes through them: filters, keeping and dropping by hand, the file and the commands that come of it.
import { areaText, quoted } from '../map/area.js';

export const FILTERS = {survey: '', kind: '', from: '', to: '', cell: '', heights: '', access: ''};

// Why a tile does not pass; empty when it does. What a tile does not say passes no test that asks for it.
export function refuses(filter, tile) {
  const year = Number(tile.date.slice(0, 4));
  if (filter.survey && !tile.survey.toLowerCase().includes(filter.survey.toLowerCase())) return 'another survey';
  if (filter.kind && tile.kind !== filter.kind) return 'another kind';
  if (filter.from && !(year >= Number(filter.from))) return 'older';
  if (filter.to && !(year <= Number(filter.to))) return 'newer';
  if (filter.cell && !(tile.cell_m > 0 && tile.cell_m <= Number(filter.cell) * (1 + 1e-9))) return 'coarser';
  if (filter.heights && tile.heights !== filter.heights) return 'other heights';
  if (filter.access && tile.access !== filter.access) return 'other access';
  return '';
}
export function filterWords(filter) {
  const words = [];
  for (const key of ['survey', 'kind', 'heights', 'access']) if (filter[key]) words.push(`--${key} ${quoted(filter[key])}`);
  if (filter.from || filter.to) words.push(`--year ${filter.from === filter.to ? filter.from : `${filter.from}..${filter.to}`}`);
  if (filter.cell) words.push(`--cell ${filter.cell}m`);
  return words;
}

// By hand counts before the search's choice.
export function isKept(tile, hands) {
  const hand = hands.get(tile.key);
  return hand === 'keep' || (tile.kept && hand !== 'drop');
}

export function shortlistCsv(head, tiles, hands) {
  return head + tiles.map((t) => (isKept(t, hands) ? '1' : '0') + t.row).join('');
}

// What to type for what the page shows. `area`: one drawn here, or nothing; `told`: as it was given.
export function commands(facts, area, filter) {
  const text = area ? areaText(area) : facts.area;
  const where = facts.searched.map((s) => `--in ${quoted(s)}`).join(' ');
  const find = ['katoptra find', where, text ? `--area ${quoted(text)}` : '', ...filterWords(filter), '-o shortlist.csv'];
  return [find.filter(Boolean).join(' '), 'katoptra fetch shortlist.csv -o tiles', 'katoptra mosaic tiles/shortlist.csv -o surface.tif'];
}

// Tiles without a path of their own cannot be told apart by it.
export function withKeys(tiles) {
  return tiles.map((t, i) => ({...t, key: `${t.path ?? t.href ?? ''}#${t.survey}#${t.id}`, number: i}));
}

// Those that a search found, and behind them the others that there are.
export function withRest(found, everything) {
  const list = withKeys(found);
  const known = new Set(list.map((t) => t.key));
  const rest = withKeys(everything).filter((t) => !known.has(t.key));
  return [...list, ...rest.map((t, i) => ({...t, number: list.length + i, kept: false, reason: 'does not touch the area', covered_fraction: 0}))];
}

export function bytesText(n) {
  if (!(n > 0)) return 'unknown size';
  const units = ['B', 'KiB', 'MiB', 'GiB', 'TiB'];
  let i = 0;
  while (n >= 1024 && i < units.length - 1) {
    n /= 1024;
    ++i;
  }
  return `${n >= 100 || i === 0 ? Math.round(n) : n.toFixed(1)} ${units[i]}`;
}
