// The smallest choice of tiles that covers an area as well as it can be covered. Tiles that cannot be used are told
// with their reason. The rest stand in the order of the preferences, with cell sizes in classes, and each is taken
// when it adds ground that better ones leave open: a greedy cover, exact in its geometry, that a person can follow
// tile by tile. First the reference is chosen under which most of the area can be had. What stays open are gaps, each
// with the tile or survey that would close it and what hinders that.
#include "katoptra/catalogue/find.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <set>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/bytes.hpp"

namespace katoptra {
namespace {

// A part of the area this small (relative) is the rounding of footprints, no gap.
constexpr double kNothing = 1e-9;
// A gap narrower than this part of a cell is none: no cell centre lies in it.
constexpr double kHairline = 0.01;

// Names what made a better tile better.
std::string advantage(const TileRecord& best, const TileRecord& t) {
  if (!best.date_guessed && t.date_guessed) return "dated";
  if (best.date > t.date) return "newer";
  const double a = best.spacing.y.metres(), b = t.spacing.y.metres();
  return a > 0 && a < b * (1 - 1e-3) ? "finer" : "preferred";
}

// How it is known that two tiles hold the same; empty when they do not, or nobody can say.
std::string same_content(const TileRecord& a, const TileRecord& b) {
  if (!a.checksum.empty() && !b.checksum.empty()) return a.checksum == b.checksum ? "same checksum" : "";
  if (a.remote() || b.remote() || a.bytes != b.bytes || a.bytes == 0) return {};
  try {
    const auto x = open_file(a.path), y = open_file(b.path);
    if (x->size() != y->size()) return {};
    std::vector<std::uint8_t> p(1 << 20), q(1 << 20);
    for (std::uint64_t at = 0; at < x->size(); at += p.size()) {
      const std::size_t n = x->read_at(at, p);
      if (y->read_at(at, q) != n || !std::equal(p.begin(), p.begin() + static_cast<std::ptrdiff_t>(n), q.begin()))
        return {};
    }
    return "same bytes";
  } catch (const Error&) {
    return {};
  }
}

// In which of nine parts of the area most of a gap lies: its corners, its sides and its middle. A box around an odd
// shape would tell of ground that is covered.
std::string whereabouts(const MultiPolygon& gap, const Bounds& area) {
  static constexpr const char* kParts[] = {"the north-west corner", "the north side", "the north-east corner",
                                           "the west side",         "the middle",     "the east side",
                                           "the south-west corner", "the south side", "the south-east corner"};
  const double whole = planar_area(gap), width = area.width() / 3, height = area.height() / 3;
  if (!(whole > 0 && width > 0 && height > 0)) return "the area";
  std::array<bool, 9> in{};
  for (int k = 0; k < 9; ++k) {
    const double west = area.west + (k % 3) * width, north = area.north - (k / 3) * height;
    const Bounds part{west, north - height, west + width, north};
    in[static_cast<std::size_t>(k)] =
        planar_area(overlay(gap, {to_polygon(part)}, Overlay::Intersection)) >= 0.15 * whole;
  }
  std::string text;
  const auto say = [&](const std::string& what) { text += (text.empty() ? "" : ", ") + what; };
  // A side from corner to corner is one thing.
  static constexpr struct { std::size_t a, b, c; } kSides[] = {{0, 1, 2}, {6, 7, 8}, {0, 3, 6}, {2, 5, 8}};
  std::array<bool, 9> told{};
  for (const auto& side : kSides)
    if (in[side.a] && in[side.b] && in[side.c]) {
      say(std::string(kParts[side.b]) + " from corner to corner");
      told[side.a] = told[side.b] = told[side.c] = true;
    }
  for (std::size_t k = 0; k < 9; ++k)
    if (in[k] && !told[k]) say(kParts[k]);
  return text.empty() ? "all over the area" : text;
}

std::string cannot_use(const TileRecord& t, const FindOptions& options) {
  if (!t.untrusted.empty()) return t.untrusted;
  if (!t.openable) return "cannot be read: " + (t.problems.empty() ? std::string("damaged") : t.problems[0]);
  if (!t.placed()) return "has no coordinate reference system, so its place is not known";
  if (!t.problems.empty()) return "damaged: " + t.problems[0];
  if (t.kind == TileKind::Grid && t.quantity.kind != QuantityKind::Height && t.quantity.kind != QuantityKind::Unknown)
    return fmt::format("holds {}, no heights", name_of(t.quantity.kind));
  const std::string at = t.custodian.empty() ? std::string() : " at " + t.custodian;
  if (t.access == Access::Restricted) return "restricted: to be asked for" + at;
  if (t.access == Access::Key && !options.have_key)
    return "needs a key, to be had" + (at.empty() ? " from its custodian" : at) + ": KATOPTRA_KEY or --key-file";
  return why_no_survey(t);
}

// Boxes by squares of the area, to find those that reach into another without looking at all.
class NearBoxes {
 public:
  explicit NearBoxes(const Bounds& all) : all_(all), squares_(static_cast<std::size_t>(kSquares * kSquares)) {}
  void add(std::size_t number, const Bounds& box) {
    boxes_.emplace(number, box);
    each(box, [&](std::vector<std::size_t>& square) { square.push_back(number); });
  }
  // Their numbers, ascending.
  std::set<std::size_t> near(const Bounds& box) const {
    std::set<std::size_t> found;
    const_cast<NearBoxes*>(this)->each(box, [&](const std::vector<std::size_t>& square) {
      for (const std::size_t i : square)
        if (boxes_.at(i).intersects(box)) found.insert(i);
    });
    return found;
  }

 private:
  static constexpr int kSquares = 64;
  int at(double v, double low, double size) const {
    return size > 0 ? static_cast<int>(std::clamp((v - low) / size * kSquares, 0.0, kSquares - 1.0)) : 0;
  }
  template <class Body>
  void each(const Bounds& box, const Body& body) {
    for (int r = at(box.south, all_.south, all_.height()); r <= at(box.north, all_.south, all_.height()); ++r)
      for (int c = at(box.west, all_.west, all_.width()); c <= at(box.east, all_.west, all_.width()); ++c)
        body(squares_[static_cast<std::size_t>(r * kSquares + c)]);
  }

  Bounds all_;
  std::vector<std::vector<std::size_t>> squares_;
  std::map<std::size_t, Bounds> boxes_;
};

class Chooser {
 public:
  Chooser(const Catalogue& catalogue, const Area& area, const FindOptions& options)
      : options_(options),
        whole_(planar_area(area.shape())),
        middle_(area.in(Crs::wgs84()).bounds().centre().x),
        kept_(area.bounds()) {
    out_.area = area;
    out_.notes = catalogue.notes;
    if (!(whole_ > 0)) throw Error(ErrorCode::BadArgument, "the area has no extent", "area", "give a polygon or a box");
    gather(catalogue);
  }

  Shortlist run() {
    leave_points_aside();
    if (options_.one_reference) keep_one_reference();
    for (const ShortlistTile& t : out_.tiles)
      if (t.reason.empty()) usable_.insert(&t);
    drop_twins();
    choose();
    find_gaps();
    summarise();
    std::move(lost_.begin(), lost_.end(), std::back_inserter(out_.tiles));
    return std::move(out_);
  }

 private:
  // An area of half the globe or more can be reached from both sides: parts that lie beyond one end come in at the
  // other.
  MultiPolygon told_where_the_area_is(MultiPolygon footprint) const {
    const Bounds area = out_.area.bounds();
    if (!out_.area.crs().is_geographic() || area.width() < 180 || footprint.empty()) return footprint;
    std::vector<MultiPolygon> all{footprint};
    for (double turn : {-360.0, 360.0}) {
      MultiPolygon moved = footprint;
      for (Polygon& p : moved) {
        for (Point& q : p.outer) q.x += turn;
        for (Ring& hole : p.holes)
          for (Point& q : hole) q.x += turn;
      }
      if (bounds_of(moved).intersects(area)) all.push_back(std::move(moved));
    }
    return all.size() > 1 ? union_of(all) : footprint;
  }

  void gather(const Catalogue& catalogue) {
    const Bounds box = out_.area.bounds();
    for (const TileRecord& t : catalogue.tiles) {
      ShortlistTile tile{.tile = t, .kept = false, .reason = {}, .footprint = {}};
      tile.footprint = told_where_the_area_is(t.footprint(out_.area.crs(), middle_));
      if (tile.footprint.empty()) {
        if (!options_.filter.refuses(t).empty()) continue;
        tile.reason = cannot_use(t, options_);
        lost_.push_back(std::move(tile));
        continue;
      }
      if (!bounds_of(tile.footprint).intersects(box)) continue;
      tile.covered_fraction = planar_area(overlay(tile.footprint, out_.area.shape(), Overlay::Intersection)) / whole_;
      if (!(tile.covered_fraction > kNothing)) continue;
      tile.reason = options_.filter.refuses(t);
      if (!tile.reason.empty()) {
        filtered_.push_back(std::move(tile));
        continue;
      }
      tile.reason = cannot_use(t, options_);
      out_.tiles.push_back(std::move(tile));
    }
    rank_cells();
    std::vector<TileRecord> records;
    for (const ShortlistTile& t : out_.tiles) records.push_back(t.tile);
    supersede_by_what_was_made(records);
    for (std::size_t i = 0; i < records.size(); ++i)
      if (out_.tiles[i].reason.empty()) out_.tiles[i].reason = records[i].superseded;
    for (auto* list : {&out_.tiles, &filtered_})
      std::stable_sort(list->begin(), list->end(),
                       [&](const ShortlistTile& a, const ShortlistTile& b) { return better(a.tile, b.tile); });
  }

  // Classes of cell sizes, so that those a hair apart are one: a tolerance inside a comparison is no order.
  void rank_cells() {
    std::vector<double> cells;
    for (const auto* list : {&out_.tiles, &filtered_})
      for (const ShortlistTile& t : *list) cells.push_back(t.tile.spacing.y.metres());
    const std::vector<int> classes = cell_classes(cells);
    for (std::size_t i = 0; i < cells.size(); ++i) cell_class_[cells[i]] = classes[i];
  }

  bool better(const TileRecord& a, const TileRecord& b) const {
    auto rank = [&](const TileRecord& t) {
      return TileRank{t.date, t.date_guessed || t.date.empty(), cell_class_.at(t.spacing.y.metres())};
    };
    return outranks(rank(a), rank(b), options_.prefer);
  }

  // Points and grids do not make one mosaic: points are left aside unless they were asked for, or nothing else is
  // there.
  void leave_points_aside() {
    const TileFilter& f = options_.filter;
    if (f.kind || f.density || f.point_class) return;
    const auto is_points = [](const ShortlistTile& t) { return t.tile.kind == TileKind::Points; };
    const auto points = static_cast<std::size_t>(std::count_if(out_.tiles.begin(), out_.tiles.end(), is_points));
    if (points == out_.tiles.size()) return;
    // Those that a filter left out close no gap of a grid either.
    for (auto* list : {&out_.tiles, &filtered_}) std::erase_if(*list, is_points);
    if (points > 0)
      out_.notes.push_back(
          fmt::format("{} tile{} of points left aside: --kind points finds those", points, points == 1 ? "" : "s"));
  }

  // The reference under which most of the area can be covered; of two that cover the same, the one of better tiles.
  void keep_one_reference() {
    std::vector<HeightReference> references;
    for (const ShortlistTile& t : out_.tiles)
      if (t.reason.empty() &&
          std::find(references.begin(), references.end(), t.tile.quantity.heights) == references.end())
        references.push_back(t.tile.quantity.heights);
    if (references.size() < 2) return;
    std::size_t best = 0;
    double most = -1;
    for (std::size_t i = 0; i < references.size(); ++i) {
      std::vector<MultiPolygon> shapes;
      for (const ShortlistTile& t : out_.tiles)
        if (t.reason.empty() && t.tile.quantity.heights == references[i]) shapes.push_back(t.footprint);
      const double covered = covered_part(shapes) / whole_;
      if (covered > most + kNothing) most = covered, best = i;
    }
    for (ShortlistTile& t : out_.tiles)
      if (t.reason.empty() && !(t.tile.quantity.heights == references[best]))
        t.reason = fmt::format("its heights are above {}; most of the area has heights above {}",
                               t.tile.quantity.heights.known() ? t.tile.quantity.heights.name() : "nothing stated",
                               references[best].name());
  }

  double covered_part(const std::vector<MultiPolygon>& shapes) const {
    if (shapes.empty()) return 0;
    return planar_area(overlay(union_of(shapes), out_.area.shape(), Overlay::Intersection));
  }

  static bool same_outline(const ShortlistTile& a, const ShortlistTile& b) {
    const Bounds x = bounds_of(a.footprint), y = bounds_of(b.footprint);
    const double near = 1e-6 * std::max(x.width(), x.height());
    return std::abs(x.west - y.west) <= near && std::abs(x.east - y.east) <= near &&
           std::abs(x.south - y.south) <= near && std::abs(x.north - y.north) <= near &&
           std::abs(planar_area(a.footprint) - planar_area(b.footprint)) <= 1e-6 * planar_area(a.footprint);
  }

  void drop_twins() {
    if (options_.all) return;
    std::map<std::pair<std::int64_t, std::int64_t>, std::vector<const ShortlistTile*>> near;
    const Bounds box = out_.area.bounds();
    auto cell_of = [&](const ShortlistTile& t, int dx, int dy) {
      const Point c = bounds_of(t.footprint).centre();
      const double step = std::max(box.width(), box.height()) / 256;
      return std::pair{static_cast<std::int64_t>(std::floor(c.x / step)) + dx,
                       static_cast<std::int64_t>(std::floor(c.y / step)) + dy};
    };
    for (ShortlistTile& t : out_.tiles) {
      if (!t.reason.empty()) continue;
      const ShortlistTile* twin = nullptr;
      for (int dx = -1; dx <= 1 && !twin; ++dx)
        for (int dy = -1; dy <= 1 && !twin; ++dy)
          if (const auto f = near.find(cell_of(t, dx, dy)); f != near.end())
            for (const ShortlistTile* o : f->second)
              if (same_outline(*o, t)) twin = o;
      if (!twin) {
        near[cell_of(t, 0, 0)].push_back(&t);
        continue;
      }
      // One outline and one date make no duplicate: what is inside must be the same.
      if (const std::string how = same_content(t.tile, twin->tile); !how.empty())
        t.reason = fmt::format("a duplicate of {} ({})", short_name(twin->tile), how);
      else if (!better(twin->tile, t.tile))
        t.reason =
            fmt::format("ties with {} in outline, date and cell, and what it holds is not the same: leave one out",
                        short_name(twin->tile));
      else
        t.reason = fmt::format("a twin of {}, which is {}", short_name(twin->tile), advantage(twin->tile, t.tile));
    }
  }

  void keep(ShortlistTile& t, const std::string& why) {
    t.kept = true;
    t.reason = why;
    out_.bytes += t.tile.bytes;
  }

  // What is still open within a tile is told from the kept tiles that reach into it, not by cutting tile after tile
  // from the whole area: that would be looked at as a whole for each.
  MultiPolygon within_area(const ShortlistTile& t) const {
    return overlay(t.footprint, out_.area.shape(), Overlay::Intersection);
  }
  MultiPolygon still_open(const ShortlistTile& t) const { return still_open(within_area(t)); }
  MultiPolygon still_open(const MultiPolygon& own) const {
    if (own.empty()) return own;
    std::vector<MultiPolygon> over;
    for (const std::size_t i : kept_.near(bounds_of(own))) over.push_back(out_.tiles[i].footprint);
    return over.empty() ? own : overlay(own, over.size() == 1 ? over[0] : union_of(over), Overlay::Difference);
  }

  void choose() {
    auto take = [&](ShortlistTile& t) {
      const double gain = planar_area(still_open(t)) / whole_;
      adds_[t.tile.survey] += gain;
      kept_.add(static_cast<std::size_t>(&t - out_.tiles.data()), bounds_of(t.footprint));
      return gain;
    };
    for (std::size_t from = 0; from < out_.tiles.size();) {
      std::size_t to = from + 1;
      while (to < out_.tiles.size() && !better(out_.tiles[from].tile, out_.tiles[to].tile)) ++to;
      std::vector<ShortlistTile*> rank;
      std::vector<MultiPolygon> pieces;
      for (std::size_t i = from; i < to; ++i) {
        ShortlistTile& t = out_.tiles[i];
        if (!t.reason.empty()) continue;
        MultiPolygon own = within_area(t);
        if (planar_area(still_open(own)) / whole_ > kNothing) {
          rank.push_back(&t);
          pieces.push_back(std::move(own));
        } else if (options_.all) {
          keep(t, "shows through voids of newer or finer tiles");
        } else {
          t.reason = "newer or finer tiles cover all of its part";
        }
      }
      if (options_.all) {
        for (ShortlistTile* t : rank) {
          const double gain = take(*t);
          keep(*t, gain > kNothing ? fmt::format("adds {:.1f} % of the area", 100 * gain)
                                   : "shows through voids of tiles beside it");
        }
      } else {
        const std::vector<std::size_t> chosen = fewest(pieces);
        for (std::size_t k : chosen) {
          const double gain = take(*rank[k]);
          keep(*rank[k], fmt::format("adds {:.1f} % of the area", 100 * gain));
        }
        for (std::size_t k = 0; k < rank.size(); ++k)
          if (!rank[k]->kept) rank[k]->reason = "the tiles kept cover its part, with fewer";
      }
      from = to;
    }
    std::vector<MultiPolygon> covered;
    for (const ShortlistTile& t : out_.tiles)
      if (t.kept) covered.push_back(t.footprint);
    open_ = covered.empty() ? out_.area.shape() : overlay(out_.area.shape(), union_of(covered), Overlay::Difference);
  }

  // Pieces are cut from one another as they are, and what is open of a face is looked at afterwards: lines that were
  // cut before differ by rounding, and rings that do not close are lost.
  std::vector<std::size_t> fewest(const std::vector<MultiPolygon>& pieces) const {
    if (pieces.size() < 2) return pieces.empty() ? std::vector<std::size_t>() : std::vector<std::size_t>{0};
    std::vector<std::vector<std::size_t>> sets(pieces.size());
    std::size_t elements = 0;
    for (const Face& f : faces_of(pieces)) {
      if (planar_area(still_open(f.shape)) / whole_ <= kNothing) continue;
      for (std::size_t s : f.in) sets[s].push_back(elements);
      ++elements;
    }
    return smallest_cover(sets, elements);
  }

  void find_gaps() {
    out_.covered_fraction = std::clamp(1 - planar_area(open_) / whole_, 0.0, 1.0);
    // How wide a hair is, in the unit of the area's CRS.
    double finest = 0;
    for (const ShortlistTile& t : out_.tiles)
      if (const double c = t.tile.spacing.y.metres(); t.kept && c > 0 && (finest == 0 || c < finest)) finest = c;
    if (finest > 0 && !open_.empty())
      open_ = without_slivers(
          open_, kHairline * cell_for(out_.area.crs(), Length::metres(finest), out_.area.bounds().centre()).y);
    if (1 - out_.covered_fraction <= kNothing || open_.empty()) {
      out_.covered_fraction = 1;
      return;
    }
    out_.gaps = open_;
    for (const Polygon& p : out_.gaps) {
      Gap g{.shape = {p}, .closed_by = {}, .how = {}};
      g.area = Area(g.shape, out_.area.crs()).ground_area();
      out_.gap_area += g.area;
      g.share = planar_area(g.shape) / whole_;
      g.where = whereabouts(g.shape, out_.area.bounds());
      out_.gap_list.push_back(std::move(g));
    }
    advise();
    std::stable_sort(out_.gap_list.begin(), out_.gap_list.end(),
                     [](const Gap& a, const Gap& b) { return a.area > b.area; });
  }

  // Of each gap the survey among those that could not be used which covers most of it. A tile that could be used leaves
  // nothing open, so only the others are looked at.
  void advise() {
    struct Help {
      std::vector<MultiPolygon> parts;
      const ShortlistTile* first = nullptr;
    };
    std::vector<std::vector<std::pair<std::string, Help>>> helps(out_.gap_list.size());  // by survey, as they come
    std::vector<Bounds> boxes;
    for (const Gap& g : out_.gap_list) boxes.push_back(bounds_of(g.shape));
    NearBoxes index(out_.area.bounds());
    for (std::size_t k = 0; k < boxes.size(); ++k) index.add(k, boxes[k]);
    const auto help = [&](std::size_t k, const ShortlistTile& t, MultiPolygon part) {
      if (planar_area(part) <= kNothing * planar_area(out_.gap_list[k].shape)) return;
      auto& list = helps[k];
      auto at = std::find_if(list.begin(), list.end(), [&](const auto& h) { return h.first == t.tile.survey; });
      if (at == list.end()) at = list.insert(at, {t.tile.survey, Help{.parts = {}, .first = &t}});
      at->second.parts.push_back(std::move(part));
    };
    for (const auto* list : {&out_.tiles, &filtered_})
      for (const ShortlistTile& t : *list) {
        if (t.kept || t.footprint.empty() || usable_.count(&t)) continue;
        MultiPolygon piece = still_open(t);
        if (piece.empty()) continue;
        const auto near = index.near(bounds_of(piece));
        // Small gaps first: what is left after them lies in the largest.
        std::vector<std::size_t> gaps(near.begin(), near.end());
        std::stable_sort(gaps.begin(), gaps.end(), [&](std::size_t a, std::size_t b) {
          return corners(out_.gap_list[a].shape) < corners(out_.gap_list[b].shape);
        });
        for (std::size_t i = 0; i < gaps.size() && !piece.empty(); ++i) {
          if (i + 1 == gaps.size()) {
            help(gaps[i], t, piece);
            break;
          }
          MultiPolygon part = overlay(piece, out_.gap_list[gaps[i]].shape, Overlay::Intersection);
          if (part.empty()) continue;
          piece = overlay(piece, part, Overlay::Difference);
          help(gaps[i], t, std::move(part));
        }
      }
    for (std::size_t k = 0; k < helps.size(); ++k) {
      Gap& g = out_.gap_list[k];
      for (const auto& [name, h] : helps[k]) {
        const double part = planar_area(union_of(h.parts)) / planar_area(g.shape);
        if (part <= g.fraction + kNothing) continue;
        g.fraction = std::min(part, 1.0);
        g.closed_by = name;
        g.how = short_name(h.first->tile) + ": " + h.first->reason;
      }
    }
  }
  static std::size_t corners(const MultiPolygon& shape) {
    std::size_t n = 0;
    for (const Polygon& p : shape) {
      n += p.outer.size();
      for (const Ring& hole : p.holes) n += hole.size();
    }
    return n;
  }

  void summarise() {
    std::map<std::string, std::vector<MultiPolygon>> shapes;
    for (const ShortlistTile& t : out_.tiles) {
      auto s = std::find_if(out_.surveys.begin(), out_.surveys.end(),
                            [&](const SurveySummary& x) { return x.name == t.tile.survey; });
      if (s == out_.surveys.end()) {
        out_.surveys.push_back({.name = t.tile.survey,
                                .kind = t.tile.kind,
                                .from = t.tile.date,
                                .to = t.tile.date,
                                .date_guessed = t.tile.date_guessed,
                                .heights = t.tile.quantity.heights.name(),
                                .licence = t.tile.licence,
                                .custodian = t.tile.custodian});
        s = std::prev(out_.surveys.end());
      }
      s->from = std::min(s->from, t.tile.date);
      s->to = std::max(s->to, t.tile.date);
      const double cell = t.tile.spacing.y.metres();
      if (cell > 0 && (s->cell == Length() || cell < s->cell.metres())) s->cell = Length::metres(cell);
      s->density = std::max(s->density, t.tile.density);
      if (s->heights != t.tile.quantity.heights.name()) s->heights = "several";
      s->access = std::max(s->access, t.tile.access);
      ++s->tiles;
      s->kept += t.kept;
      s->bytes += t.tile.bytes;
      shapes[s->name].push_back(t.footprint);
    }
    for (SurveySummary& s : out_.surveys) {
      s.covered_fraction = std::min(1.0, covered_part(shapes[s.name]) / whole_);
      s.adds = adds_[s.name];
    }
  }

  const FindOptions& options_;
  std::map<double, int> cell_class_;
  double whole_, middle_;
  Shortlist out_;
  std::vector<ShortlistTile> lost_, filtered_;
  std::set<const ShortlistTile*> usable_;
  NearBoxes kept_;
  MultiPolygon open_;
  std::map<std::string, double> adds_;
};

}  // namespace

Shortlist find_tiles(const Catalogue& catalogue, const Area& area, const FindOptions& options) {
  return Chooser(catalogue, area, options).run();
}

}  // namespace katoptra
