// Which tiles a study takes, what becomes of them, and whether its products can be made: before a cell is computed.
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <optional>
#include <set>

#include "katoptra/base/error.hpp"
#include "katoptra/catalogue/fetch.hpp"
#include "katoptra/check/despike.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/study/judgements.hpp"
#include "katoptra/study/sheets.hpp"
#include "katoptra/study/study.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/surface/heights.hpp"
#include "katoptra/water/water_products.hpp"

#include "base/text.hpp"
#include "leaving_products.hpp"
#include "levels.hpp"
#include "points.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

// Tiles of a study's folders. Where a source assigns references, they are part of what is known of its tiles.
struct Candidates {
  Catalogue catalogue;
  std::vector<const StudySource*> source;  // by tile
};

Candidates gather(const Study& s, const Area& reach, const PlanOptions& options, std::vector<std::string>& notes) {
  Candidates c;
  std::map<std::string, Catalogue> read;
  std::set<fs::path> taken;
  for (const StudySource& source : s.sources) {
    auto [at, fresh] = read.try_emplace(source.in);
    if (fresh) {
      at->second = read_catalogue(source.in, {.area = &reach},
                                  {.hosts = options.hosts, .cache = options.cache, .run = options.run});
      notes.insert(notes.end(), at->second.notes.begin(), at->second.notes.end());
    }
    const TileFilter wanted{.kind = TileKind::Grid, .survey = source.survey};
    for (TileRecord t : at->second.tiles) {
      // A tile that two sources name belongs to the first.
      if (!wanted.refuses(t).empty() || !taken.insert(t.path).second) continue;
      if (t.frame && !t.frame->crs() && source.crs) {
        t.frame = t.frame->with_crs(*source.crs);
        t.spacing = ground_spacing(*t.frame);
      }
      if (!t.quantity.heights.known() && source.heights) t.quantity.heights = *source.heights;
      c.catalogue.tiles.push_back(std::move(t));
      c.source.push_back(&source);
    }
  }
  return c;
}

// Remote tiles of the choice are brought to a folder, and read there from then on.
std::uint64_t bring(Candidates& c, Shortlist& s, const PlanOptions& options) {
  std::vector<ShortlistEntry> entries;
  for (const ShortlistTile& t : s.tiles)
    if (t.kept && t.tile.remote())
      entries.push_back({.path = t.tile.path,
                         .survey = t.tile.survey,
                         .date = t.tile.date,
                         .checksum = t.tile.checksum,
                         .licence = t.tile.licence,
                         .custodian = t.tile.custodian,
                         .date_guessed = t.tile.date_guessed,
                         .access = t.tile.access,
                         .bytes = t.tile.bytes,
                         .box = t.tile.globe_box()});
  if (entries.empty()) return 0;
  const FetchReport r = fetch_tiles(entries, {.folder = options.tiles, .progress = options.run.progress, .say = {}});
  if (const auto missing = r.missing(); !missing.empty())
    throw Error(
        ErrorCode::Network,
        fmt::format("{} of {} tiles could not be fetched: {}", missing.size(), r.tiles.size(), missing[0]->problem),
        options.tiles.string(), "run the study again to go on from there");
  for (const FetchedTile& f : r.tiles) {
    for (ShortlistTile& t : s.tiles)
      if (t.tile.path == f.entry.path) t.tile.path = f.path;
    for (TileRecord& t : c.catalogue.tiles)
      if (t.path == f.entry.path) t.path = f.path;
  }
  return r.moved;
}

// Why a tile's heights cannot be brought to the study's reference; empty when they can.
std::string cannot_be_brought(const TileRecord& t, const StudySource& source, const HeightReference& to) {
  if (t.quantity.heights == to || source.shift.given()) return {};
  const std::string from = t.quantity.heights.known() ? t.quantity.heights.name() : "a reference that is not stated";
  try {
    VerticalTransform(t.frame->crs(), t.quantity.heights, to, t.frame->bounds());
    return {};
  } catch (const Error& e) {
    return fmt::format("its heights are above {}, the study's above {}: {}", from, to.name(), e.problem());
  }
}

// Tiles whose heights cannot be brought to the study's reference leave before the choice, with the reason.
void keep_one_reference(const Study& s, Candidates& c, std::vector<std::string>& left_out) {
  if (!s.heights.known()) return;
  Candidates kept;
  for (std::size_t i = 0; i < c.catalogue.tiles.size(); ++i) {
    TileRecord& t = c.catalogue.tiles[i];
    const std::string why = t.openable && t.frame ? cannot_be_brought(t, *c.source[i], s.heights) : std::string();
    if (!why.empty()) {
      left_out.push_back(short_name(t) + ": " + why);
      continue;
    }
    kept.catalogue.tiles.push_back(std::move(t));
    kept.source.push_back(c.source[i]);
  }
  c = std::move(kept);
}

const StudySource* source_of_tile(const Candidates& c, const fs::path& path) {
  for (std::size_t i = 0; i < c.catalogue.tiles.size(); ++i)
    if (c.catalogue.tiles[i].path == path) return c.source[i];
  return nullptr;
}

Grid open_chosen(const Candidates& c, const ShortlistTile& chosen, const HeightReference& heights,
                 std::vector<std::string>& notes) {
  const StudySource* source = source_of_tile(c, chosen.tile.path);
  OpenOptions o{.crs = {}, .heights = source->heights, .unit = source->unit, .void_value = source->void_value};
  o.uncertainty = source->uncertainty.otherwise(chosen.tile.uncertainty);
  const bool lost = !open_grid(chosen.tile.path).frame().crs();
  if (lost) {
    // The study file knows, or else the catalogue that led here.
    const bool by_study = source->crs.has_value();
    if (by_study)
      o.crs = source->crs;
    else if (chosen.tile.frame && chosen.tile.frame->crs())
      o.crs = chosen.tile.frame->crs();
    else
      throw Error(ErrorCode::Refused, "has no coordinate reference system", short_name(chosen.tile),
                  "give its [[source]] a crs");
    notes.push_back(fmt::format("{}: has no CRS; {} was assigned by {}", short_name(chosen.tile), o.crs->label(),
                                by_study ? "the study file" : "its catalogue"));
  }
  Grid opened = open_grid(chosen.tile.path, o);
  if (source->spikes) opened = without_spikes(opened, spike_rule(opened));
  if (!source->correction.does_nothing()) opened = corrected(opened, source->correction);
  const Grid g = brought_to(opened, heights, source->shift);
  // What the survey's record says of the date counts in the mosaic, too.
  return relabelled(g, [&](GridInfo& info) {
    info.name = short_name(chosen.tile);
    for (SourceRecord& r : info.sources) {
      r.name = short_name(chosen.tile);
      r.survey = chosen.tile.survey;
      r.date = chosen.tile.date;
      r.date_guessed = chosen.tile.date_guessed;
    }
  });
}

// What is wrong with a product is said before anything is made, not after the surface.
void judge_product(const StudyProduct& p, const Study& s, const StudyPlan& plan) {
  const auto refuse = [&](const std::string& what, const std::string& advice) {
    throw Error(ErrorCode::BadFile, fmt::format("the product {} ({}) {}", p.file, p.kind, what), s.file.string(),
                advice);
  };
  const auto ends_in = [&](const std::string& list) {
    const std::string ext = lower_extension(p.file);
    if (ext.empty() || (", " + list + ",").find(", " + ext + ",") == std::string::npos)
      refuse(fmt::format("cannot be written as '{}'", ext), "end its name in one of " + list);
  };
  // Endings of what is written, without formats that hold less.
  const auto written = [](Holds holds, bool Format::*but) {
    std::string list;
    for (const Format& f : formats())
      if (f.holds(holds, Use::Written) && !(f.*but))
        for (const std::string& e : f.endings) list += (list.empty() ? "" : ", ") + e;
    return list;
  };
  const WaterProduct* water = water_product_named(p.kind);
  if (is_drawn(p))
    ends_in(written(Holds::Features, &Format::points_only));
  else if (p.kind == "section")
    ends_in(".csv, .png, .svg, .pdf, " + written(Holds::Features, &Format::points_only));
  else if (p.kind == "volumes")
    ends_in(".csv, .json");
  else if (p.kind == "map")
    ends_in(".png, .svg, .pdf");
  else if (p.kind == "picture")
    ends_in(".png, .jpg, .tif, .gpkg, .kmz, .pdf");
  else if (p.kind == "solid")
    ends_in(".stl, .3mf, .obj, .glb");
  else
    ends_in(written(Holds::Grids, &Format::heights_only));
  if (p.interval && !(p.interval->metres() > 0))
    refuse("has an interval that is not above zero", "write for instance \"1 m\"");
  if ((p.uncertainty || p.zones || p.kind == "chance") && !plan.surface.carries_uncertainty())
    refuse("draws how sure the surface is, and none of its sources says so",
           "give a source an uncertainty, or leave that out");
  if (p.kind == "section" ? !(p.exaggeration >= 0) : !(p.exaggeration > 0))
    refuse("has an exaggeration that is not above zero", "take 1 or more");
  // A product refuses what it cannot do when it is asked for, before a cell is computed.
  if (const Product* row = product_named(p.kind)) try {
      row->make(plan.surface, p.settings);
    } catch (const Error& e) {
      refuse("cannot be made: " + e.problem(), e.advice());
    }
  // Water looks at the whole surface: only what must be told is asked for here.
  if (water) try {
      water->judge(p.settings);
    } catch (const Error& e) {
      refuse(e.problem(), e.advice());
    }
  for (const std::string& file : p.layers) {
    const StudyProduct* drawn = product_of(s, file);
    if (!drawn || drawn >= &p || !is_drawn(*drawn))
      refuse(fmt::format("draws {}, which no product before it makes as lines or areas", file),
             "name the file of contours, streams, basins, depressions or inundation above it");
  }
  if (const auto wrong = why_not_leaving(p, plan.frame))
    refuse("cannot be made: " + (wrong->where().empty() ? "" : wrong->where() + ": ") + wrong->problem(),
           wrong->advice());
}

void judge_products(const Study& s, const StudyPlan& plan) {
  std::set<std::string> taken = {"surface.tif",   "surface.lineage.tif", "surface.lineage.csv",
                                 "shortlist.csv", "shortlist.geojson",   "findings.geojson",
                                 "control.csv",   "report.html",         "survey.toml",
                                 "run.json",      "steps.json"};
  for (const StudyProduct& p : s.products) {
    judge_product(p, s, plan);
    if (!taken.insert(p.file).second)
      throw Error(ErrorCode::BadFile, fmt::format("two results of the study are named {}", p.file), s.file.string(),
                  "give every product a name of its own");
  }
}

// The steps in words.
void list_steps(const Study& s, std::size_t tiles, bool remote, const std::vector<std::string>& of_points,
                StudyPlan& plan) {
  if (remote)
    plan.steps.push_back(
        fmt::format("fetch what is remote ({})",
                    format_bytes(static_cast<double>(plan.fetched ? plan.fetched : plan.shortlist.bytes))));
  plan.steps.insert(plan.steps.end(), of_points.begin(), of_points.end());
  if (s.level) plan.steps.push_back(step_of_levelling(s));
  plan.steps.push_back(fmt::format("mosaic {} tile{} ({}), {:.2f} % of the area", tiles, tiles == 1 ? "" : "s",
                                   format_bytes(static_cast<double>(plan.shortlist.bytes)),
                                   100 * plan.shortlist.covered_fraction));
  if (s.water) plan.steps.push_back("lay water flat");
  if (s.fill)
    plan.steps.push_back(fmt::format(
        "fill voids{}", s.fill_options.largest ? fmt::format(" up to {:g} m", s.fill_options.largest->metres()) : ""));
  const auto same = plan.frame.window_of(plan.surface.frame());
  plan.steps.push_back(same ? "keep the lattice of the mosaic: no resampling"
                            : fmt::format("reproject to {} ({})", plan.frame.crs().label(),
                                          name_of(resolved(s.resampling, plan.surface, plan.frame))));
  plan.steps.push_back(fmt::format("clip to the area: {} x {} cells", plan.frame.cols(), plan.frame.rows()));
  if (s.sheets) {
    const std::size_t n = sheets_of(plan.frame, *s.sheets).size();
    plan.steps.push_back(fmt::format("write it, and grids made of it, as {} sheet{}", n, n == 1 ? "" : "s"));
  }
  plan.steps.push_back("check");
  for (const StudyProduct& p : s.products) plan.steps.push_back(fmt::format("{} -> {}", p.kind, p.file));
}

// Tiles are joined, and compared with one another, as they were levelled.
void bring_level(const Study& s, const PlanOptions& options, std::vector<Grid>& tiles, StudyPlan& plan) {
  plan.levelling = level_of(s, tiles, options.run);
  tiles = levelled(tiles, *plan.levelling);
  std::size_t i = 0;
  for (const ShortlistTile& t : plan.shortlist.tiles)
    if (t.kept) plan.tiles[t.tile.path] = tiles[i++];
}

}  // namespace

StudyPlan plan_study(const Study& s, const PlanOptions& options) {
  StudyPlan plan;
  std::vector<std::string> notes;
  const Area reach = s.area.grown(s.margin);
  Candidates c = gather(s, reach, options, notes);
  keep_one_reference(s, c, plan.left_out);
  plan.shortlist =
      find_tiles(c.catalogue, reach, {.prefer = s.mosaic.prefer, .all = s.all_tiles, .have_key = options.have_key});
  const bool remote = std::any_of(plan.shortlist.tiles.begin(), plan.shortlist.tiles.end(),
                                  [](const ShortlistTile& t) { return t.kept && t.tile.remote(); });
  if (remote && !options.tiles.empty()) plan.fetched = bring(c, plan.shortlist, options);
  std::vector<Grid> tiles;
  for (const ShortlistTile& t : plan.shortlist.tiles) {
    if (t.kept) {
      tiles.push_back(open_chosen(c, t, s.heights, notes));
      plan.tiles[t.tile.path] = tiles.back();
    } else {
      plan.left_out.push_back(short_name(t.tile) + ": " + t.reason);
    }
  }
  std::vector<std::string> of_points;
  for (const StudyPoints& p : s.points) {
    const Grid g = surface_of(p, s.heights, options.run);
    const Bounds wanted = reach.in(g.frame().crs()).bounds();
    if (!g.frame().bounds().intersects(wanted)) {
      plan.left_out.push_back(p.name + ": its points lie outside the area");
      continue;
    }
    tiles.push_back(g);
    of_points.push_back(fmt::format("make a surface of the points of {} ({} file{}), by {}", p.name, p.files.size(),
                                    p.files.size() == 1 ? "" : "s", name_of(p.gridding.methods.front())));
  }
  if (tiles.empty())
    throw Error(ErrorCode::BadArgument, "no tile covers any part of the area", s.file.string(),
                "check the area, the folders and the references");
  if (s.level && options.measure) bring_level(s, options, tiles, plan);
  MosaicOptions m = s.mosaic;
  m.unit = s.unit;
  m.prefer.push_back(Preference::Given);
  plan.surface = mosaic(tiles, m);
  plan.surface =
      relabelled(plan.surface, [&](GridInfo& i) { i.notes.insert(i.notes.begin(), notes.begin(), notes.end()); });
  // Voids are closed with what lies around them, so a rim of the neighbourhood stays until the final cut.
  plan.surface =
      clip(plan.surface, Area::box(reach.in(plan.surface.frame().crs()).bounds(), plan.surface.frame().crs()),
           {.margin = Length::metres(20 * ground_spacing(plan.surface.frame()).y.metres())});
  const Crs crs = s.crs == "utm" ? s.area.utm() : s.crs.empty() ? plan.surface.frame().crs() : Crs::parse(s.crs);
  // Nobody asked for other cells: those of the finest tile stay.
  const Frame& lattice = plan.surface.frame();
  plan.frame = crs.same_place(lattice.crs()) && !s.cell ? lattice.sub(lattice.window_of_centres(reach.in(crs).bounds()))
                                                        : frame_for(lattice, crs, {.cell = s.cell, .area = &reach});
  // What will be left when the area itself is cut out: plan and run are one.
  plan.frame = clip(grid_from_function(plan.frame, [](double, double) { return 0.0; }), reach).frame();
  judge_products(s, plan);
  plan.cells = plan.frame.cols() * plan.frame.rows();
  plan.bytes = static_cast<double>(plan.cells) * 4;
  list_steps(s, tiles.size(), remote, of_points, plan);
  return plan;
}

}  // namespace katoptra
