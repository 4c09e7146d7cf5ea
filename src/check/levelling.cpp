#include "katoptra/check/levelling.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <numeric>
#include <optional>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/grid/turn.hpp"
#include "katoptra/surface/mosaic.hpp"

#include "adjustment.hpp"
#include "moments.hpp"
#include "overlaps.hpp"

namespace katoptra {
namespace {

constexpr double kLeastSigma = 1e-4;     // metres: no patch is known better
constexpr std::size_t kFewPatches = 6;   // fewer do not tell how far patches scatter
constexpr double kPlainError = 0.02;     // metres: of control points where neither they nor the surface say
constexpr double kScattered = 2.5;       // times the scatter: beyond, it may be no error
constexpr double kMedianError = 1.2533;  // of the mean's standard error
constexpr int kMostTrims = 4;            // times that slopes which do not show are left out

// Two kinds of surface whose difference is what stands on the ground, and no error.
bool of_other_kind(const Grid& a, const Grid& b) {
  const SurfaceKind x = a.quantity().surface, y = b.quantity().surface;
  return x != y && (x == SurfaceKind::FirstReturn || y == SurfaceKind::FirstReturn) && x != SurfaceKind::Unknown &&
         y != SurfaceKind::Unknown;
}

void require_levels(const std::vector<Grid>& tiles) {
  if (tiles.empty()) throw Error(ErrorCode::BadArgument, "no tiles to level", "level", "name at least one");
  for (const Grid& t : tiles) {
    if (t.quantity().kind != QuantityKind::Height)
      throw Error(ErrorCode::BadArgument, fmt::format("holds {}, not heights", name_of(t.quantity().kind)),
                  t.info().name, "surveys of heights are levelled");
    if (!t.frame().crs())
      throw Error(ErrorCode::Refused, "has no coordinate reference system, so it cannot be laid over others",
                  t.info().name, "tell it with --crs");
  }
}

[[noreturn]] void refuse_nothing_held(const std::string& what) {
  throw Error(ErrorCode::BadArgument, what, "level",
              "hold a survey that is right (--hold), or give control points (--control)");
}

// Empty where it is not known, and for what was joined of several.
std::string survey_of_tile(const Grid& tile) {
  const GridInfo& info = tile.info();
  return info.sources.empty() || acquisition_of(tile) == info.name ? std::string() : info.sources[0].survey;
}

// Where a survey's plane has its middle, and how a place is told on it.
class Base {
 public:
  Base(const std::vector<Grid>& tiles, const std::vector<std::size_t>& members) {
    crs_ = tiles[members[0]].frame().crs();
    Bounds box;
    for (std::size_t i : members) {
      const Frame& f = tiles[i].frame();
      box.include(f.crs().same_place(crs_) ? f.bounds() : transformed(f.bounds(), Transform(f.crs(), crs_)));
    }
    pivot_ = box.centre();
    scale_ = GroundRuler(crs_).at(pivot_);
    half_ = std::max(box.width() * scale_.x, box.height() * scale_.y) / 2;
  }
  const Crs& crs() const { return crs_; }
  Point pivot() const { return pivot_; }
  double half() const { return half_; }  // metres
  std::array<double, 3> at(Point p) const {
    const double turn = crs_.is_geographic() ? 360 * std::round((p.x - pivot_.x) / 360) : 0;
    return {1, (p.x - turn - pivot_.x) * scale_.x / half_, (p.y - pivot_.y) * scale_.y / half_};
  }
  std::vector<Point> told(const std::vector<PatchDifference>& patches, const Crs& from) const {
    std::vector<Point> p;
    for (const PatchDifference& d : patches) p.push_back(d.place);
    if (!from.same_place(crs_)) Transform(from, crs_).forward(p);
    return p;
  }

 private:
  Crs crs_;
  Point pivot_;
  GroundScale scale_;
  double half_ = 1;
};

class Leveller {
  struct Range {
    std::size_t begin = 0, end = 0;
  };

 public:
  Leveller(const std::vector<Grid>& tiles, const LevelOptions& options) : options_(options) {
    // Neighbours across the antimeridian are told from one side of it.
    const auto lead =
        std::find_if(tiles.begin(), tiles.end(), [](const Grid& t) { return t.frame().crs().is_geographic(); });
    for (const Grid& t : tiles)
      tiles_.push_back(lead == tiles.end() ? t : around_longitude(t, lead->frame().bounds().centre().x));
    out_.fit = options.fit;
    gather_surveys();
    for (const SurveyLevel& s : out_.surveys) bases_.emplace_back(tiles_, s.tiles);
  }

  Levelling run() {
    sample();
    add_control();
    find_what_is_known();
    bodies_.resize(out_.surveys.size());
    for (std::size_t i = 0; i < bodies_.size(); ++i) {
      const bool moves = out_.surveys[i].known && !out_.surveys[i].held, tilts = options_.fit == LevelFit::Planes;
      bodies_[i].free = {moves, moves && tilts, moves && tilts};
    }
    scale_ = adjust(bodies_, observations_);
    for (int k = 0; k < kMostTrims && leave_out_what_does_not_show(); ++k) scale_ = adjust(bodies_, observations_);
    state_surveys();
    state_overlaps();
    return std::move(out_);
  }

 private:
  void gather_surveys() {
    std::map<std::string, std::size_t> known;
    for (std::size_t i = 0; i < tiles_.size(); ++i) {
      const GridInfo& info = tiles_[i].info();
      const std::string survey = survey_of_tile(tiles_[i]);
      // A tile of which no survey is known is one by itself, whatever others are called.
      const bool alone = options_.each_tile || survey.empty();
      const std::string key = alone ? fmt::format("tile {}", i) : "survey " + acquisition_of(tiles_[i]);
      const auto [at, fresh] = known.emplace(key, out_.surveys.size());
      if (fresh) out_.surveys.push_back({.name = alone ? info.name : survey, .tiles = {}});
      out_.surveys[at->second].tiles.push_back(i);
      survey_of_.push_back(at->second);
    }
    for (const std::string& name : options_.hold) hold(name);
  }

  void hold(const std::string& name) {
    bool any = false;
    for (SurveyLevel& s : out_.surveys) {
      const bool is = s.name == name || std::any_of(s.tiles.begin(), s.tiles.end(), [&](std::size_t i) {
                        return tiles_[i].info().name == name || survey_of_tile(tiles_[i]) == name;
                      });
      s.held = s.held || is;
      any = any || is;
    }
    if (any) return;
    std::string names;
    for (std::size_t i = 0; i < out_.surveys.size() && i < 8; ++i) names += (i ? ", " : "") + out_.surveys[i].name;
    throw Error(ErrorCode::BadArgument, fmt::format("'{}' is none of the surveys and tiles", name), "level",
                "hold one of: " + names);
  }

  void sample() {
    std::int64_t apart = 0;
    const auto pairs = pairs_that_overlap(tiles_, [&](std::size_t a, std::size_t b) {
      if (survey_of_[a] == survey_of_[b]) return true;
      if (!of_other_kind(tiles_[a], tiles_[b])) return false;
      ++apart;
      return true;
    });
    if (apart > 0)
      out_.notes.push_back(
          fmt::format("{} overlap{} of first returns with the ground left out: what stands between them is no error",
                      apart, apart == 1 ? "" : "s"));
    if (pairs.empty()) return;
    const std::int64_t most =
        std::clamp(kLevelPatches / static_cast<std::int64_t>(pairs.size()), kLeastPatches, kMostPatches);
    std::vector<OverlapSample> samples(pairs.size());
    parallel_for(pairs.size(), options_.run,
                 [&](std::size_t i) { samples[i] = sample_overlap(tiles_, pairs[i], kLevelPatch, most); });
    // One list of patches for each two surveys.
    std::map<std::pair<std::size_t, std::size_t>, std::vector<std::size_t>> by_survey;
    for (std::size_t i = 0; i < samples.size(); ++i)
      if (!samples[i].patches.empty())
        by_survey[std::minmax(survey_of_[samples[i].first], survey_of_[samples[i].second])].push_back(i);
    for (const auto& [surveys, of] : by_survey) add_overlap(surveys, of, samples);
    share_scatter();
  }

  void add_overlap(std::pair<std::size_t, std::size_t> surveys, const std::vector<std::size_t>& of,
                   const std::vector<OverlapSample>& samples) {
    OverlapLevel o{.first = surveys.first, .second = surveys.second};
    const std::size_t begin = observations_.size();
    std::vector<double> before;
    for (std::size_t i : of) {
      const OverlapSample& s = samples[i];
      // Differences are told as first less second of the surveys, which the tiles need not be.
      const double sign = survey_of_[s.first] == surveys.first ? 1 : -1;
      const std::vector<Point> here = bases_[o.first].told(s.patches, s.crs),
                               there = bases_[o.second].told(s.patches, s.crs);
      for (std::size_t k = 0; k < s.patches.size(); ++k) {
        const PatchDifference& p = s.patches[k];
        if (std::isnan(here[k].x) || std::isnan(there[k].x)) continue;
        observations_.push_back({.first = o.first,
                                 .second = o.second,
                                 .at_first = bases_[o.first].at(here[k]),
                                 .at_second = bases_[o.second].at(there[k]),
                                 .value = sign * p.difference});
        before.push_back(sign * p.difference);
        spreads_.push_back(p.spread);
        o.cells += p.cells;
      }
    }
    if (before.empty()) return;
    o.patches = static_cast<std::int64_t>(before.size());
    o.before = Length::metres(median_of(before));
    ranges_.push_back({begin, observations_.size()});
    out_.overlaps.push_back(o);
  }

  // How far patches of each overlap scatter about a plane of its own; those with few as the others do.
  void share_scatter() {
    std::vector<double> scatters, usual;
    double product = 0, squares = 0;
    for (const Range& range : ranges_) {
      const auto n = range.end - range.begin;
      std::vector<double> rests = rests_about_own_plane(range);
      const double s = robust_deviation(rests, 0);
      scatters.push_back(n < kFewPatches ? std::nan("") : std::max(s, kLeastSigma));
      if (n < kFewPatches) continue;
      usual.push_back(scatters.back());
      // Ground that has changed is no error.
      for (std::size_t i = 0; i + 1 < rests.size(); ++i) {
        const double a = rests[i] / scatters.back(), b = rests[i + 1] / scatters.back();
        if (std::max(std::abs(a), std::abs(b)) > kScattered) continue;
        product += a * b;
        squares += a * a;
      }
    }
    // Where no overlap tells, cells do, as if a tenth of them erred apart.
    constexpr double kApart = 0.1;
    double other = kPlainError;
    if (!usual.empty())
      other = median_of(usual);
    else if (!out_.overlaps.empty())
      other = median_of(spreads_) /
              std::sqrt(1 + kApart * static_cast<double>(out_.overlaps[0].cells / out_.overlaps[0].patches));
    // Patches that lie side by side may err alike; then fewer of them count.
    const double alike = squares > 0 ? std::clamp(product / squares, 0.0, 0.8) : 0,
                 shown = squares > 0 && alike > 2 / std::sqrt(squares) ? (1 + alike) / (1 - alike) : 1;
    for (std::size_t i = 0; i < ranges_.size(); ++i)
      for (std::size_t k = ranges_[i].begin; k < ranges_[i].end; ++k)
        observations_[k].sigma = shown * (std::isnan(scatters[i]) ? other : scatters[i]);
  }

  std::vector<double> rests_about_own_plane(const Range& range) const {
    constexpr double kAnySigma = 0.01;
    std::vector<Observation> own(observations_.begin() + static_cast<std::ptrdiff_t>(range.begin),
                                 observations_.begin() + static_cast<std::ptrdiff_t>(range.end));
    for (Observation& o : own) {
      o.first = Observation::kNone;
      o.second = 0;
      o.sigma = kAnySigma;
    }
    const bool tilts = options_.fit == LevelFit::Planes && own.size() >= kFewPatches;
    std::vector<AdjustedBody> body{{.free = {true, tilts, tilts}}};
    adjust(body, own);
    std::vector<double> rests;
    for (const Observation& o : own) rests.push_back(o.rest);
    return rests;
  }

  void add_control() {
    if (!options_.control) return;
    const double cell = spreads_.empty() ? kPlainError : median_of(spreads_) / std::sqrt(2.0);
    for (std::size_t i = 0; i < tiles_.size(); ++i) {
      const std::size_t s = survey_of_[i];
      const ControlReport report = check_control(tiles_[i], *options_.control, options_.run);
      if (i == 0) out_.notes.insert(out_.notes.end(), report.notes.begin(), report.notes.end());
      const double unit = metres_per(report.unit);
      for (const ControlResidual& r : report.rows) {
        if (std::isnan(r.residual) || r.point.cover == Cover::Vegetated) continue;
        Point p = r.here;
        if (!report.crs.same_place(bases_[s].crs())) p = Transform(report.crs, bases_[s].crs()).forward(p);
        double sigma = std::hypot(options_.control->error.metres(), cell);
        // What the surface states of itself there is known better than its scatter.
        if (std::isfinite(r.normalised) && r.normalised != 0) sigma = std::abs(r.residual / r.normalised) * unit;
        observations_.push_back({.first = s,
                                 .at_first = bases_[s].at(p),
                                 .value = r.residual * unit,
                                 .sigma = std::max(sigma, kLeastSigma)});
        ++out_.surveys[s].control;
      }
    }
  }

  // What chains of overlaps join to something that is held.
  void find_what_is_known() {
    const std::size_t truth = out_.surveys.size();
    std::vector<std::size_t> root(truth + 1);
    std::iota(root.begin(), root.end(), std::size_t{0});
    const auto find = [&](std::size_t i) {
      while (root[i] != i) i = root[i] = root[root[i]];
      return i;
    };
    bool any = false;
    for (std::size_t i = 0; i < truth; ++i)
      if (out_.surveys[i].held || out_.surveys[i].control > 0) {
        root[find(i)] = find(truth);
        any = true;
      }
    if (!any) refuse_nothing_held("no control point lies on any of the surveys, and none of them is held");
    for (const OverlapLevel& o : out_.overlaps) root[find(o.first)] = find(o.second);
    for (std::size_t i = 0; i < truth; ++i) {
      SurveyLevel& s = out_.surveys[i];
      s.known = find(i) == find(truth);
      if (!s.known)
        out_.notes.push_back(
            fmt::format("{}: overlaps nothing that is held, so its level cannot be known; it stays as it is", s.name));
    }
    std::erase_if(observations_, [&](const Observation& o) { return !out_.surveys[o.first].known; });
  }

  bool leave_out_what_does_not_show() {
    bool any = false;
    for (AdjustedBody& b : bodies_)
      for (std::size_t k = 1; k < 3; ++k)
        if (b.free[k] && b.error[k] > kLevelMisfit && std::abs(b.value[k]) < kLevelShown * b.error[k]) {
          b.free[k] = false;
          any = true;
        }
    return any;
  }

  void state_surveys() {
    for (std::size_t i = 0; i < bodies_.size(); ++i) {
      const AdjustedBody& b = bodies_[i];
      if (!b.free[0]) continue;
      SurveyLevel& s = out_.surveys[i];
      s.offset = Length::metres(b.value[0]);
      s.error = Length::metres(b.error[0]);
      s.edge = Length::metres(std::hypot(b.value[1], b.value[2]));
      s.edge_error = Length::metres(std::hypot(b.error[1], b.error[2]));
      s.correction = {.offset = s.offset,
                      .crs = bases_[i].crs(),
                      .tilt_x = b.value[1] / bases_[i].half(),
                      .tilt_y = b.value[2] / bases_[i].half(),
                      .pivot = bases_[i].pivot(),
                      .error = s.error};
    }
  }

  void state_overlaps() {
    std::map<std::pair<std::size_t, std::size_t>, std::vector<const Observation*>> of;
    for (const Observation& o : observations_)
      if (o.second != Observation::kNone) of[{o.first, o.second}].push_back(&o);
    for (OverlapLevel& o : out_.overlaps) {
      const auto& list = of[{o.first, o.second}];
      // Nothing was done to those that are not known.
      if (list.empty()) {
        o.after = o.before;
        continue;
      }
      std::vector<double> rests;
      double off = 0;
      for (const Observation* p : list) {
        rests.push_back(p->rest);
        off += std::abs(p->rest) > kBisquare * p->sigma * scale_;
      }
      const auto n = static_cast<double>(list.size());
      o.off = off / n;
      o.after = Length::metres(median_of(rests));
      o.error = Length::metres(kMedianError * list[0]->sigma * scale_ / std::sqrt(n));
      o.fits = std::abs(o.after.metres()) <= std::max(kLevelMisfit, 3 * o.error.metres());
      if (!o.fits)
        out_.notes.push_back(fmt::format(
            "{} and {} do not fit: {:+.3f} m are left between them in the middle, and {:.0f} % of their patches stand "
            "off",
            out_.surveys[o.first].name, out_.surveys[o.second].name, o.after.metres(), 100 * o.off));
    }
  }

  std::vector<Grid> tiles_;
  const LevelOptions& options_;
  Levelling out_;
  std::vector<std::size_t> survey_of_;  // by tile
  std::vector<Base> bases_;             // by survey
  std::vector<Observation> observations_;
  std::vector<Range> ranges_;  // of each overlap in them
  std::vector<double> spreads_;
  std::vector<AdjustedBody> bodies_;
  double scale_ = 1;
};

}  // namespace

LevelFit parse_level_fit(std::string_view text) {
  if (text == "offsets") return LevelFit::Offsets;
  if (text == "planes") return LevelFit::Planes;
  throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no way to level", text), {}, "use offsets or planes");
}

Levelling level(const std::vector<Grid>& tiles, const LevelOptions& options) {
  require_levels(tiles);
  if (options.hold.empty() && !options.control) refuse_nothing_held("nothing says which level is right");
  return Leveller(tiles, options).run();
}

std::vector<Grid> levelled(const std::vector<Grid>& tiles, const Levelling& levelling) {
  std::vector<Grid> out = tiles;
  for (const SurveyLevel& s : levelling.surveys)
    for (std::size_t i : s.tiles)
      if (!s.correction.does_nothing())
        // What was done is told of the survey; of each tile it would only be the same again.
        out[i] = relabelled(corrected(tiles[i], s.correction), [](GridInfo& info) {
          const auto last = std::find_if(info.notes.rbegin(), info.notes.rend(),
                                         [](const std::string& n) { return n.find(": corrected, ") != n.npos; });
          if (last != info.notes.rend()) info.notes.erase(std::next(last).base());
        });
  return out;
}

}  // namespace katoptra
