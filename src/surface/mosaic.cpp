#include "katoptra/surface/mosaic.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <numeric>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/grid/turn.hpp"
#include "katoptra/surface/clip.hpp"

#include "distance.hpp"

namespace katoptra {
namespace {

// One input on the mosaic's lattice: its window there and the number its first source has in the common table.
struct Part {
  Grid grid;
  Window place;
  std::uint32_t first_source = 0;
  std::string survey;  // tiles with the same belong together
};

Origin shifted(Origin o, std::uint32_t by) { return o ? origin_code(source_of(o) + by, how_of(o)) : 0; }

class MosaicSource final : public GridSource {
 public:
  MosaicSource(std::vector<Part> parts, GridInfo info, std::int64_t feather)
      : parts_(std::move(parts)), info_(std::move(info)), feather_(feather) {}
  const GridInfo& info() const override { return info_; }

  void read(const BlockView& out) const override {
    if (feather_ > 0)
      blend(out);
    else
      join(out);
  }

 private:
  // First come, first served: tiles in order, until every cell has a value.
  void join(const BlockView& out) const {
    const Window& w = out.window;
    std::int64_t open = w.cells();
    bool first = true;
    for (const Part& part : parts_) {
      const Window common = part.place.intersected(w);
      if (common.empty()) continue;
      if (first && common == w) {
        read_part(part, out);
        for (std::int64_t r = 0; r < w.rows; ++r)
          open -= std::count_if(out.row(r), out.row(r) + w.cols, [](float v) { return !std::isnan(v); });
      } else {
        if (first) blank(out);
        open -= underlay(part, common, out);
      }
      first = false;
      if (open == 0) return;
    }
    if (first) blank(out);
  }

  static void blank(const BlockView& out) {
    for (std::int64_t r = 0; r < out.window.rows; ++r) {
      std::fill_n(out.row(r), out.window.cols, kVoid);
      if (out.origin) std::fill_n(out.origin_row(r), out.window.cols, Origin{0});
    }
  }

  void read_part(const Part& part, BlockView out) const {
    out.window.col -= part.place.col;
    out.window.row -= part.place.row;
    part.grid.read_into(out);
    if (!out.origin || part.first_source == 0) return;
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c)
        out.origin_row(r)[c] = shifted(out.origin_row(r)[c], part.first_source);
  }

  // Puts the tile's values where there is none yet; returns how many.
  std::int64_t underlay(const Part& part, const Window& common, const BlockView& out) const {
    const BlockView to = out.part(common);
    Block block(common, out.origin ? Planes::ValuesAndOrigin : Planes::Values);
    read_part(part, block.view());
    std::int64_t closed = 0;
    for (std::int64_t r = 0; r < common.rows; ++r) {
      const float* from = block.row(r);
      for (std::int64_t c = 0; c < common.cols; ++c)
        if (std::isnan(to.row(r)[c]) && !std::isnan(from[c])) {
          to.row(r)[c] = from[c];
          if (to.origin) to.origin_row(r)[c] = block.origin_row(r)[c];
          ++closed;
        }
    }
    return closed;
  }

  // A weighted sum that is filled from the first tile to the last; each leaves a rest for the next.
  struct Blend {
    double sum = 0, weight = 0, rest = 1, heaviest = 0;
    Origin origin = 0;
    int sources = 0;

    void add(double value, double own, Origin from, int from_sources) {
      const double w = rest * own;
      if (!(w > 0)) return;
      sum += w * value;
      weight += w;
      rest = own >= 1 ? 0 : rest * (1 - own);
      sources += from_sources;
      if (w > heaviest) {
        heaviest = w;
        origin = from;
      }
    }
  };

  // Tiles of one survey are blended among themselves first; the survey as a whole then fades into the next one at its
  // own edge, so that nothing older shows through where two of its sheets meet.
  void blend(const BlockView& out) const {
    const Window& w = out.window;
    const Window wide = w.grown(feather_);
    std::vector<Blend> cells(static_cast<std::size_t>(w.cells()));
    for (std::size_t first = 0; first < parts_.size();) {
      std::size_t end = first + 1;
      while (end < parts_.size() && parts_[end].survey == parts_[first].survey) ++end;
      add_survey(first, end, wide, out, cells);
      first = end;
    }
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) {
        const Blend& b = cells[static_cast<std::size_t>(r * w.cols + c)];
        out.row(r)[c] = b.weight > 0 ? static_cast<float>(b.sum / b.weight) : kVoid;
        if (out.origin)
          out.origin_row(r)[c] = b.sources > 1 ? origin_code(source_of(b.origin), How::Blended) : b.origin;
      }
  }

  void add_survey(std::size_t first, std::size_t end, const Window& wide, const BlockView& out,
                  std::vector<Blend>& cells) const {
    const Window& w = out.window;
    std::vector<Blend> own(cells.size());
    Block covered(wide, Planes::Values);
    blank(covered.view());
    bool any = false;
    for (std::size_t i = first; i < end; ++i) {
      const Window common = parts_[i].place.intersected(wide);
      if (common.empty()) continue;
      any = true;
      add_tile(parts_[i], common, out, covered, own);
    }
    if (!any) return;
    const std::vector<float> inside = distance_to_void(covered, feather_);
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) {
        const auto i = static_cast<std::size_t>(r * w.cols + c);
        if (own[i].weight > 0)
          cells[i].add(own[i].sum / own[i].weight, share(inside, wide, r, c), own[i].origin, own[i].sources);
      }
  }

  void add_tile(const Part& part, const Window& common, const BlockView& out, Block& covered,
                std::vector<Blend>& own) const {
    const Window& w = out.window;
    Block block(covered.window(), out.origin ? Planes::ValuesAndOrigin : Planes::Values);
    blank(block.view());
    read_part(part, block.view().part(common));
    const std::vector<float> inside = distance_to_void(block, feather_);
    for (std::int64_t r = 0; r < block.window().rows; ++r)
      for (std::int64_t c = 0; c < block.window().cols; ++c)
        if (!std::isnan(block.row(r)[c])) covered.row(r)[c] = 0;
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) {
        const float z = block.row(r + feather_)[c + feather_];
        if (!std::isnan(z))
          own[static_cast<std::size_t>(r * w.cols + c)].add(
              static_cast<double>(z), share(inside, block.window(), r, c),
              out.origin ? block.origin_row(r + feather_)[c + feather_] : 0, 1);
      }
  }

  // The weight of a cell of the output window by its distance to the nearest void.
  double share(const std::vector<float>& inside, const Window& wide, std::int64_t r, std::int64_t c) const {
    const float d = inside[static_cast<std::size_t>((r + feather_) * wide.cols + c + feather_)];
    return std::min(1.0, static_cast<double>(d) / static_cast<double>(feather_));
  }

  std::vector<Part> parts_;
  GridInfo info_;
  std::int64_t feather_;
};

std::string listed(const std::vector<std::string>& names) {
  std::string s;
  for (std::size_t i = 0; i < names.size() && i < 5; ++i) s += (i ? ", " : "") + names[i];
  if (names.size() > 5) s += fmt::format(" and {} more", names.size() - 5);
  return s;
}

void refuse_what_does_not_belong(const std::vector<Grid>& tiles) {
  std::vector<std::string> lost;
  std::map<std::string, std::vector<std::string>> by_heights, by_kind;
  for (const Grid& t : tiles) {
    if (!t.frame().crs()) lost.push_back(t.info().name);
    by_kind[name_of(t.quantity().kind)].push_back(t.info().name);
    if (t.quantity().kind == QuantityKind::Height) by_heights[t.quantity().heights.name()].push_back(t.info().name);
  }
  if (!lost.empty())
    throw Error(ErrorCode::Refused,
                fmt::format("{} without a coordinate reference system: {}", lost.size() == 1 ? "a tile" : "tiles",
                            listed(lost)),
                "mosaic", "say which it is with --crs, or leave them out");
  auto groups = [](const std::map<std::string, std::vector<std::string>>& by) {
    std::string s;
    for (auto& [key, names] : by) s += fmt::format("{}{} ({})", s.empty() ? "" : " against ", key, listed(names));
    return s;
  };
  if (by_kind.size() > 1)
    throw Error(ErrorCode::Refused, "different quantities do not make one surface: " + groups(by_kind), "mosaic",
                "leave out those that are no heights");
  if (by_heights.size() > 1)
    throw Error(ErrorCode::Refused, "heights above different references: " + groups(by_heights), "mosaic",
                by_heights.count("unknown") ? "say with --heights what the unknown ones are, or leave them out"
                                            : "bring them to one reference with --heights, or leave them out");
}

std::size_t finest_of(const std::vector<Grid>& tiles, const std::vector<std::size_t>& order) {
  std::size_t best = order[0];
  auto edge = [&](std::size_t i) {
    const GroundSpacing s = ground_spacing(tiles[i].frame());
    return std::max(s.x.metres(), s.y.metres());
  };
  // A millionth finer is the same cell, measured at another place.
  for (std::size_t i : order)
    if (edge(i) < edge(best) * (1 - 1e-3)) best = i;
  return best;
}

Frame union_frame(const std::vector<Grid>& tiles, const Frame& lattice) {
  Bounds box = lattice.bounds();
  for (const Grid& t : tiles) {
    if (const auto w = lattice.window_of(t.frame()))
      box.include(lattice.sub(*w).bounds());
    else
      box.include(transformed(t.frame().bounds(), Transform(t.frame().crs(), lattice.crs())));
  }
  const auto c0 = static_cast<std::int64_t>(std::floor(lattice.col_at(box.west) + kSameLattice)),
             r0 = static_cast<std::int64_t>(std::floor(lattice.row_at(box.north) + kSameLattice));
  const auto c1 = static_cast<std::int64_t>(std::ceil(lattice.col_at(box.east) - kSameLattice)),
             r1 = static_cast<std::int64_t>(std::ceil(lattice.row_at(box.south) - kSameLattice));
  return lattice.sub({c0, r0, c1 - c0, r1 - r0});
}

// What tiles of one acquisition have in common: the name of their survey, their date and their cells.
std::string survey_of(const Grid& tile) {
  const auto& sources = tile.info().sources;
  auto label = [](const SourceRecord& s) { return fmt::format("{}|{}|{:.3g}", s.survey, s.date, s.cell.metres()); };
  for (const SourceRecord& s : sources)
    if (label(s) != label(sources[0])) return tile.info().name;
  return sources.empty() ? tile.info().name : label(sources[0]);
}

// The tile on the mosaic's lattice, moved there when it has another.
Part place_on(const Grid& tile, const Frame& frame, const MosaicOptions& options, std::vector<std::string>& notes) {
  if (const auto w = frame.window_of(tile.frame())) return {tile, *w, 0, {}};
  Bounds box = transformed(tile.frame().bounds(), Transform(tile.frame().crs(), frame.crs()));
  const CellSize cell = frame.cell();
  box = {box.west - cell.x, box.south - cell.y, box.east + cell.x, box.north + cell.y};
  const Window place = frame.window_of_centres(box).intersected(frame.window());
  if (place.empty()) return {tile, {}, 0, {}};
  const Frame to = frame.sub(place);
  const Resampling used = resolved(options.resampling, tile, to);
  notes.push_back(fmt::format("{}: resampled ({}) to the lattice of the mosaic, as its {} differ", tile.info().name,
                              name_of(used), tile.frame().crs().same_place(frame.crs()) ? "cells" : "CRS and cells"));
  return {reproject(tile, to, used), place, 0, {}};
}

}  // namespace

Preference parse_preference(std::string_view text) {
  if (text == "newest") return Preference::Newest;
  if (text == "finest") return Preference::Finest;
  if (text == "given") return Preference::Given;
  throw Error(ErrorCode::BadArgument, fmt::format("'{}' is not a preference", text), {}, "use newest, finest, given");
}

std::vector<std::size_t> preference_order(const std::vector<Grid>& tiles, const std::vector<Preference>& prefer) {
  std::vector<std::size_t> order(tiles.size());
  std::iota(order.begin(), order.end(), std::size_t{0});
  auto date = [&](std::size_t i) {
    return tiles[i].info().sources.empty() ? std::string() : tiles[i].info().sources[0].date;
  };
  auto edge = [&](std::size_t i) { return ground_spacing(tiles[i].frame()).y.metres(); };
  std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
    for (Preference p : prefer) {
      if (p == Preference::Given) return a < b;
      if (p == Preference::Newest && date(a) != date(b)) return date(a) > date(b);
      if (p == Preference::Finest && std::abs(edge(a) - edge(b)) > 1e-3 * std::min(edge(a), edge(b)))
        return edge(a) < edge(b);
    }
    return false;
  });
  return order;
}

Grid mosaic(const std::vector<Grid>& given, const MosaicOptions& options) {
  if (given.empty()) throw Error(ErrorCode::BadArgument, "no tiles to join", "mosaic", "name at least one");
  refuse_what_does_not_belong(given);
  const std::vector<std::size_t> order = preference_order(given, options.prefer);
  const LengthUnit unit = options.unit.value_or(given[order[0]].quantity().unit);
  std::vector<Grid> tiles;
  for (const Grid& t : given) tiles.push_back(t.quantity().kind == QuantityKind::Height ? in_unit(t, unit) : t);
  // Tiles on both sides of the antimeridian are neighbours.
  const Grid& first = tiles[order[0]];
  if (first.frame().crs().is_geographic())
    for (Grid& t : tiles)
      if (t.frame().crs().is_geographic())
        t = turned_around(
            t,
            static_cast<int>(std::lround((first.frame().bounds().centre().x - t.frame().bounds().centre().x) / 360)));

  const Frame frame = options.frame ? *options.frame : union_frame(tiles, tiles[finest_of(tiles, order)].frame());
  GridInfo info = tiles[order[0]].info();
  info.frame = frame;
  info.sources.clear();
  info.notes.clear();
  info.name = "mosaic";
  std::vector<Part> parts;
  std::optional<SampleType> type;
  for (std::size_t i : order) {
    const Grid& tile = tiles[i];
    for (const std::string& note : tile.info().notes) info.notes.push_back(note);
    Part part = place_on(tile, frame, options, info.notes);
    if (part.place.intersected(frame.window()).empty()) {
      info.notes.push_back(fmt::format("{}: lies outside and gives nothing", tile.info().name));
      continue;
    }
    type = type ? common_type(*type, part.grid.info().type) : part.grid.info().type;
    part.first_source = static_cast<std::uint32_t>(info.sources.size());
    part.survey = survey_of(tile);
    for (const SourceRecord& s : part.grid.info().sources) info.sources.push_back(s);
    info.quantity.unit_known = info.quantity.unit_known && tile.quantity().unit_known;
    if (tile.quantity().surface != info.quantity.surface) info.quantity.surface = SurfaceKind::Unknown;
    parts.push_back(std::move(part));
  }
  const GroundSpacing spacing = ground_spacing(frame);
  const auto feather = static_cast<std::int64_t>(
      std::llround(options.feather.metres() / std::max(spacing.x.metres(), spacing.y.metres())));
  info.type = type.value_or(info.type);
  if (feather > 0 && parts.size() > 1 && is_integer(info.type)) {
    info.notes.push_back(
        fmt::format("a feathered seam makes fractions of {} values: written as float32", name_of(info.type)));
    info.type = SampleType::Float32;
  }
  if (!is_integer(info.type)) info.file_void.reset();
  return Grid(std::make_shared<MosaicSource>(std::move(parts), std::move(info), feather));
}

}  // namespace katoptra
