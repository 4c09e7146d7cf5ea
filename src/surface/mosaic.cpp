#include "katoptra/surface/mosaic.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <limits>
#include <map>
#include <numeric>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/grid/turn.hpp"
#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/surface/clip.hpp"

#include "distance.hpp"
#include "grid/error_kernel.hpp"
#include "grid/planes.hpp"

namespace katoptra {
namespace {

constexpr int kWidestFeather = 1000;  // cells: so much more is read around every block

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
      : parts_(std::move(parts)), surveys_(by_survey(parts_)), info_(std::move(info)), feather_(feather) {}
  const GridInfo& info() const override { return info_; }
  bool carries_uncertainty() const override {
    return std::any_of(parts_.begin(), parts_.end(), [](const Part& p) { return p.grid.carries_uncertainty(); });
  }

  // Of tiles that others hide a part will be read at most, wherever these have voids.
  void expect(const Window& w) const override {
    std::vector<Window> before;
    for (const Part& part : parts_) {
      const Window common = part.place.intersected(w);
      if (common.empty()) continue;
      if (std::none_of(before.begin(), before.end(), [&](const Window& b) { return !b.intersected(common).empty(); }))
        part.grid.expect({common.col - part.place.col, common.row - part.place.row, common.cols, common.rows});
      before.push_back(common);
    }
  }

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
        if (first) make_void(out);
        open -= underlay(part, common, out);
      }
      first = false;
      if (open == 0) return;
    }
    if (first) make_void(out);
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
    Block block(common, out.planes());
    read_part(part, block.view());
    std::int64_t closed = 0;
    for (std::int64_t r = 0; r < common.rows; ++r) {
      const float* from = block.row(r);
      for (std::int64_t c = 0; c < common.cols; ++c)
        if (std::isnan(to.row(r)[c]) && !std::isnan(from[c])) {
          to.row(r)[c] = from[c];
          if (to.origin) to.origin_row(r)[c] = block.origin_row(r)[c];
          if (to.uncertainty) to.uncertainty_row(r)[c] = block.uncertainty_row(r)[c];
          ++closed;
        }
    }
    return closed;
  }

  // A weighted sum that is filled from the first tile to the last; each leaves a rest for the next. Sheets of one
  // survey may err together, so their uncertainties add up like their values; those of different surveys balance.
  enum class Errors { Common, Apart };
  struct Blend {
    double sum = 0, weight = 0, rest = 1, heaviest = 0, doubt = 0;
    Origin origin = 0;
    int sources = 0;

    void add(double value, double uncertainty, Errors errors, double own, Origin from, int from_sources) {
      const double w = rest * own;
      if (!(w > 0)) return;
      sum += w * value;
      weight += w;
      doubt += errors == Errors::Common ? w * uncertainty : w * w * uncertainty * uncertainty;
      rest = own >= 1 ? 0 : rest * (1 - own);
      sources += from_sources;
      if (w > heaviest) {
        heaviest = w;
        origin = from;
      }
    }
  };

  using Marks = std::vector<std::uint8_t>;

  // A tile's cells in the output window and the ring around it that feathers look at.
  struct TileCells {
    Block block;
    Marks has;
  };

  // Tiles of one survey are blended among themselves first; the survey as a whole then fades into the next one at its
  // own edge, so that nothing older shows through where two of its sheets meet. Only edges count behind which somebody
  // else has data: at the outer rim there is nothing to fade into, and weights that fell there would tear the seam
  // open where it meets the rim.
  void blend(const BlockView& out) const {
    const Window& w = out.window;
    const Window wide = w.grown(feather_);
    const auto n = static_cast<std::size_t>(wide.cells());
    std::vector<std::vector<TileCells>> surveys;
    std::vector<Marks> covered;
    std::vector<std::uint16_t> anyone(n, 0);  // how many surveys have a value there
    for (const std::vector<std::size_t>& members : surveys_) {
      std::vector<TileCells> tiles;
      Marks has(n, 0);
      for (std::size_t i : members) {
        const Window common = parts_[i].place.intersected(wide);
        if (common.empty()) continue;
        tiles.push_back(cells_of(parts_[i], common, wide, out.planes()));
        for (std::size_t k = 0; k < n; ++k) has[k] |= tiles.back().has[k];
      }
      if (tiles.empty()) continue;
      for (std::size_t k = 0; k < n; ++k) anyone[k] = static_cast<std::uint16_t>(anyone[k] + has[k]);
      surveys.push_back(std::move(tiles));
      covered.push_back(std::move(has));
    }
    std::vector<Blend> cells(static_cast<std::size_t>(w.cells()));
    for (std::size_t s = 0; s < surveys.size(); ++s) {
      const std::vector<Blend> own = blended_tiles(surveys[s], covered[s], wide, w);
      const std::vector<float> inside = from_edges(covered[s], wide, [&](std::size_t k) { return anyone[k] > 0; });
      for (std::int64_t r = 0; r < w.rows; ++r)
        for (std::int64_t c = 0; c < w.cols; ++c) {
          const auto i = static_cast<std::size_t>(r * w.cols + c);
          if (own[i].weight > 0)
            cells[i].add(own[i].sum / own[i].weight, own[i].doubt / own[i].weight, Errors::Apart,
                         share(inside, wide, r, c), own[i].origin, own[i].sources);
        }
    }
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) {
        const Blend& b = cells[static_cast<std::size_t>(r * w.cols + c)];
        out.row(r)[c] = b.weight > 0 ? static_cast<float>(b.sum / b.weight) : kVoid;
        if (out.uncertainty)
          out.uncertainty_row(r)[c] = b.weight > 0 ? rounded_uncertainty(std::sqrt(b.doubt) / b.weight) : kVoid;
        if (out.origin)
          out.origin_row(r)[c] = b.sources > 1 ? origin_code(source_of(b.origin), How::Blended) : b.origin;
      }
  }

  TileCells cells_of(const Part& part, const Window& common, const Window& wide, Planes planes) const {
    TileCells t{Block(wide, planes), {}};
    make_void(t.block.view());
    read_part(part, t.block.view().part(common));
    t.has.resize(static_cast<std::size_t>(wide.cells()));
    const float* z = t.block.row(0);
    for (std::size_t k = 0; k < t.has.size(); ++k) t.has[k] = !std::isnan(z[k]);
    return t;
  }

  // One survey's tiles, each fading where others of the survey go on.
  std::vector<Blend> blended_tiles(const std::vector<TileCells>& tiles, const Marks& survey, const Window& wide,
                                   const Window& w) const {
    std::vector<Blend> own(static_cast<std::size_t>(w.cells()));
    for (const TileCells& t : tiles) {
      const std::vector<float> inside = from_edges(t.has, wide, [&](std::size_t k) { return survey[k] != 0; });
      for (std::int64_t r = 0; r < w.rows; ++r)
        for (std::int64_t c = 0; c < w.cols; ++c) {
          const float z = t.block.row(r + feather_)[c + feather_];
          const Origin* origin = t.block.origin_row(r + feather_);
          const float* u = t.block.uncertainty_row(r + feather_);
          if (!std::isnan(z))
            own[static_cast<std::size_t>(r * w.cols + c)].add(
                static_cast<double>(z), u ? static_cast<double>(u[c + feather_]) : 0, Errors::Common,
                share(inside, wide, r, c), origin ? origin[c + feather_] : 0, 1);
        }
    }
    return own;
  }

  // How far each cell lies from the nearest one that is missing here while somebody (`others`) has it.
  template <class Others>
  std::vector<float> from_edges(const Marks& has, const Window& wide, const Others& others) const {
    Marks edge(has.size());
    bool any = false;
    for (std::size_t k = 0; k < has.size(); ++k) {
      edge[k] = !has[k] && others(k);
      any = any || edge[k];
    }
    if (!any) return std::vector<float>(has.size(), static_cast<float>(feather_));
    return distance_to_marked(edge, wide.cols, wide.rows, feather_);
  }

  // The weight of a cell of the output window by its distance to the nearest edge.
  double share(const std::vector<float>& inside, const Window& wide, std::int64_t r, std::int64_t c) const {
    const float d = inside[static_cast<std::size_t>((r + feather_) * wide.cols + c + feather_)];
    return std::min(1.0, static_cast<double>(d) / static_cast<double>(feather_));
  }

  // Numbers of the parts of each survey, in the order of their best.
  static std::vector<std::vector<std::size_t>> by_survey(const std::vector<Part>& parts) {
    std::vector<std::vector<std::size_t>> out;
    std::map<std::string, std::size_t> known;
    for (std::size_t i = 0; i < parts.size(); ++i) {
      const auto [it, is_new] = known.emplace(parts[i].survey, out.size());
      if (is_new) out.emplace_back();
      out[it->second].push_back(i);
    }
    return out;
  }

  std::vector<Part> parts_;
  std::vector<std::vector<std::size_t>> surveys_;
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

// The tile on the mosaic's lattice, moved there when it has another.
Part place_on(const Grid& tile, const Frame& frame, const MosaicOptions& options, std::vector<std::string>& notes) {
  if (const auto w = frame.window_of(tile.frame())) return {tile, *w, 0, {}};
  Bounds box = frame.told_here(transformed(tile.frame().bounds(), Transform(tile.frame().crs(), frame.crs())));
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

std::string acquisition_of(const Grid& tile) {
  const auto& sources = tile.info().sources;
  auto label = [](const SourceRecord& s) { return fmt::format("{}|{}|{:.3g}", s.survey, s.date, s.cell.metres()); };
  for (const SourceRecord& s : sources)
    if (label(s) != label(sources[0])) return tile.info().name;
  return sources.empty() ? tile.info().name : label(sources[0]);
}

Preference parse_preference(std::string_view text) {
  if (text == "newest") return Preference::Newest;
  if (text == "finest") return Preference::Finest;
  if (text == "given") return Preference::Given;
  throw Error(ErrorCode::BadArgument, fmt::format("'{}' is not a preference", text), {}, "use newest, finest, given");
}

std::vector<int> cell_classes(const std::vector<double>& cells) {
  std::vector<std::size_t> order(cells.size());
  std::iota(order.begin(), order.end(), std::size_t{0});
  auto size = [&](std::size_t i) { return cells[i] > 0 ? cells[i] : std::numeric_limits<double>::infinity(); };
  std::sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return size(a) < size(b); });
  std::vector<int> out(cells.size());
  double finest = 0;
  int count = 0;
  for (std::size_t i : order) {
    if (count == 0 || size(i) > finest * (1 + 1e-3)) {
      finest = size(i);
      ++count;
    }
    out[i] = count;
  }
  return out;
}

bool outranks(const TileRank& a, const TileRank& b, const std::vector<Preference>& prefer) {
  for (Preference p : prefer) {
    if (p == Preference::Given) return false;
    // A guess never outranks a date that was told.
    if (p == Preference::Newest && a.guessed != b.guessed) return b.guessed;
    if (p == Preference::Newest && a.date != b.date) return a.date > b.date;
    if (p == Preference::Finest && a.cell_class != b.cell_class) return a.cell_class < b.cell_class;
  }
  return false;
}

namespace {

std::vector<TileRank> ranks_of(const std::vector<Grid>& tiles) {
  std::vector<double> cells;
  for (const Grid& t : tiles) cells.push_back(ground_spacing(t.frame()).y.metres());
  const std::vector<int> classes = cell_classes(cells);
  std::vector<TileRank> ranks;
  for (std::size_t i = 0; i < tiles.size(); ++i) {
    const auto& sources = tiles[i].info().sources;
    const std::string date = sources.empty() ? std::string() : sources[0].date;
    ranks.push_back({date, date.empty() || sources[0].date_guessed, classes[i]});
  }
  return ranks;
}

// True when two tiles lie on one another by more than a shared rim.
bool overlap(const Grid& a, const Grid& b) {
  if (!a.frame().crs().same_place(b.frame().crs())) return true;  // nobody has looked
  const Bounds x = a.frame().bounds(), y = b.frame().bounds();
  const double wide = std::min(x.east, y.east) - std::max(x.west, y.west),
               high = std::min(x.north, y.north) - std::max(x.south, y.south);
  const double smaller = std::min(x.width() * x.height(), y.width() * y.height());
  return wide > 0 && high > 0 && wide * high > 0.02 * smaller;
}

// What of the order is a guess, and which tiles nothing but the order given decides between.
void say_how_order_came(const std::vector<Grid>& tiles, const std::vector<std::size_t>& order,
                        const std::vector<Preference>& prefer, std::vector<std::string>& notes) {
  constexpr std::size_t kMost = 400;  // tiles of which all pairs are looked at
  if (std::find(prefer.begin(), prefer.end(), Preference::Newest) == prefer.end() || tiles.size() > kMost) return;
  const std::vector<TileRank> ranks = ranks_of(tiles);
  const auto survey = [&](std::size_t i) {
    return tiles[i].info().sources.empty() ? std::string() : tiles[i].info().sources[0].survey;
  };
  std::vector<std::string> undated, ties;
  std::map<std::size_t, std::vector<std::string>> under;  // what lies under which of its equals
  for (std::size_t k = 0; k < order.size(); ++k) {
    const std::size_t i = order[k];
    if (ranks[i].date.empty()) continue;
    bool on_others = false;
    for (std::size_t l = 0; l < order.size(); ++l) {
      const std::size_t j = order[l];
      const bool equal = l > k && !outranks(ranks[i], ranks[j], prefer) && !outranks(ranks[j], ranks[i], prefer) &&
                         (survey(i).empty() || survey(i) != survey(j));
      if (i == j || !(ranks[i].guessed || equal) || !overlap(tiles[i], tiles[j])) continue;
      on_others = true;
      if (equal) under[j].push_back(tiles[i].info().name);
    }
    if (ranks[i].guessed && on_others) undated.push_back(tiles[i].info().name);
  }
  if (!undated.empty())
    notes.push_back(fmt::format(
        "no date is stated, so dated tiles go before, and among these the times of the files: {}", listed(undated)));
  for (const auto& [j, over] : under)
    ties.push_back(over.size() == 1
                       ? fmt::format("{} before {}", over[0], tiles[j].info().name)
                       : fmt::format("{} and {} more before {}", over[0], over.size() - 1, tiles[j].info().name));
  if (!ties.empty())
    notes.push_back(fmt::format("nothing but the order in which they were given decides between: {}", listed(ties)));
}

}  // namespace

// Which tile goes on top is a strict order over ranks: date, whether it was told or guessed, and the class of its
// cells. Sizes are put into classes first, because "equal within a thousandth" is no order: of three tiles a, b and c
// each a little coarser than the one before, a may equal b and b equal c while a is finer than c, and what a sort makes
// of that depends on where it begins. Among equals the order in which tiles were given holds, and is said where it
// matters.
std::vector<std::size_t> preference_order(const std::vector<Grid>& tiles, const std::vector<Preference>& prefer) {
  std::vector<std::size_t> order(tiles.size());
  std::iota(order.begin(), order.end(), std::size_t{0});
  const std::vector<TileRank> ranks = ranks_of(tiles);
  std::stable_sort(order.begin(), order.end(),
                   [&](std::size_t a, std::size_t b) { return outranks(ranks[a], ranks[b], prefer); });
  return order;
}

Grid mosaic(const std::vector<Grid>& given, const MosaicOptions& options) {
  if (given.empty()) throw Error(ErrorCode::BadArgument, "no tiles to join", "mosaic", "name at least one");
  refuse_what_does_not_belong(given);
  const std::vector<std::size_t> order = preference_order(given, options.prefer);
  const LengthUnit unit = options.unit.value_or(given[order[0]].quantity().unit);
  // Where nobody speaks of a unit there is nothing to convert, and the surface does not say one either.
  const bool spoken = options.unit || std::any_of(given.begin(), given.end(), [](const Grid& t) {
                        return t.quantity().unit_known || t.quantity().unit != LengthUnit::Metre;
                      });
  std::vector<Grid> tiles;
  for (const Grid& t : given)
    tiles.push_back(spoken && t.quantity().kind == QuantityKind::Height ? in_unit(t, unit) : t);
  // Tiles on both sides of the antimeridian are neighbours.
  // A frame that was asked for is told in longitudes of its own.
  const Grid& first = tiles[order[0]];
  const Frame& lead = options.frame ? *options.frame : first.frame();
  if (lead.crs().is_geographic())
    for (Grid& t : tiles)
      if (t.frame().crs().is_geographic())
        t = turned_around(
            t, static_cast<int>(std::lround((lead.bounds().centre().x - t.frame().bounds().centre().x) / 360)));

  const Frame frame = options.frame ? *options.frame : union_frame(tiles, tiles[finest_of(tiles, order)].frame());
  GridInfo info = tiles[order[0]].info();
  info.frame = frame;
  info.sources.clear();
  info.notes.clear();
  info.name = "mosaic";
  say_how_order_came(given, order, options.prefer, info.notes);
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
    part.survey = acquisition_of(tile);
    for (const SourceRecord& s : part.grid.info().sources) info.sources.push_back(s);
    info.quantity.unit_known = info.quantity.unit_known && tile.quantity().unit_known;
    if (tile.quantity().surface != info.quantity.surface) info.quantity.surface = SurfaceKind::Unknown;
    parts.push_back(std::move(part));
  }
  std::vector<Grid> placed;
  for (const Part& p : parts) placed.push_back(p.grid);
  info.error_reach = common_reach(placed);
  const GroundSpacing spacing = ground_spacing(frame);
  const double wide = options.feather.metres() / std::max(spacing.x.metres(), spacing.y.metres());
  if (!(wide >= 0 && wide <= kWidestFeather))
    throw Error(ErrorCode::BadArgument,
                fmt::format("a feather of {:g} m is {:.0f} cells wide; at most {} are blended",
                            options.feather.metres(), wide, kWidestFeather),
                "mosaic", "take a narrower one");
  const auto feather = static_cast<std::int64_t>(std::llround(wide));
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
