// First less second. The second is brought to the unit, reference and CRS of the first, both to the coarser of
// their cells (finer ones are averaged, for their noise is not the others'), and one pass in bands gathers
// everything: differences by class of slope, aspect, land and source, sums for volumes, patches whose spread tells the
// uncertainty of a volume, and cells beyond the level of detection. Rows are joined in order. Shift and tilt are found
// before it by least squares on the slopes (coregister.cpp).
#include "katoptra/check/compare.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <span>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/grid/turn.hpp"
#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/surface/heights.hpp"
#include "katoptra/surface/reproject.hpp"

#include "base/clones.hpp"
#include "correlation.hpp"
#include "grid/cell_areas.hpp"
#include "moments.hpp"
#include "overlaps.hpp"
#include "sectors.hpp"
#include "terrain/gradients.hpp"

namespace katoptra {
namespace {

constexpr double kMeanFromHere = 1.5;
constexpr double kStandsOff = 4;              // robust deviations from the median: beyond, the ground has changed
constexpr int kAllBits = 11, kClassBits = 9;  // quantiles of a class to 1/512 of their distance from the median

class DifferenceSource final : public GridSource {
 public:
  DifferenceSource(Grid a, Grid b, GridInfo info) : a_(std::move(a)), b_(std::move(b)), info_(std::move(info)) {}
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    a_.read_into(out);
    const Block b = b_.read(out.window);
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c) {
        float& d = out.row(r)[c];
        d = static_cast<float>(static_cast<double>(d) - static_cast<double>(b.at(c, r)));
        if (out.origin && std::isnan(d)) out.origin_row(r)[c] = 0;
      }
  }

 private:
  Grid a_, b_;
  GridInfo info_;
};

Grid difference_of(const Grid& a, const Grid& b) {
  GridInfo info = a.info();
  info.quantity.kind = QuantityKind::Difference;
  info.quantity.heights = {};
  info.type = SampleType::Float32;
  info.file_void.reset();
  info.name = a.info().name + " less " + b.info().name;
  return Grid(std::make_shared<DifferenceSource>(a, b, std::move(info)));
}

// The coarser frame, and the part of it that both cover.
Frame common_frame(const Grid& a, const Grid& b) {
  auto edge = [](const Grid& g) {
    const GroundSpacing s = ground_spacing(g.frame());
    return s.x.metres() * s.y.metres();
  };
  // The second is taken only when it is clearly coarser.
  const bool second = edge(b) > 1.05 * edge(a);
  const Frame &f = second ? b.frame() : a.frame(), &o = second ? a.frame() : b.frame();
  const Bounds box = f.bounds(), other = f.told_here(transformed(o.bounds(), Transform(o.crs(), f.crs())));
  const Bounds common{std::max(box.west, other.west), std::max(box.south, other.south), std::min(box.east, other.east),
                      std::min(box.north, other.north)};
  const Window w = common.empty() ? Window() : f.window_of_centres(common).intersected(f.window());
  if (w.empty())
    throw Error(ErrorCode::BadArgument, fmt::format("does not overlap {}", b.info().name), a.info().name,
                "compare surfaces of the same place; look tells where each lies");
  return f.sub(w);
}

Grid on_frame(const Grid& g, const Frame& f, std::vector<std::string>& notes) {
  if (const auto same = g.frame().window_of(f)) return cut(g, *same);
  // Cells clearly smaller are averaged: their noise must not be taken for that of the others.
  const double finer = ground_spacing(f).y / ground_spacing(g.frame()).y;
  const Resampling method = finer > kMeanFromHere ? Resampling::Mean : resolved(Resampling::Automatic, g, f);
  notes.push_back(fmt::format("{}: brought to the cells of the comparison ({})", g.info().name, name_of(method)));
  return reproject(g, f, method);
}

void require_comparable(const Grid& g) {
  if (g.quantity().kind != QuantityKind::Height)
    throw Error(ErrorCode::BadArgument, fmt::format("holds {}, not heights", name_of(g.quantity().kind)), g.info().name,
                "compare takes two surfaces");
  if (!g.frame().crs())
    throw Error(ErrorCode::Refused, "has no coordinate reference system, so it cannot be laid over another",
                g.info().name, "tell it with --crs");
}

// ----------------------------------------------------------------------------------------------- gathering by bands

// Which classes a cell is in; the numbers run through all kinds.
struct Classes {
  std::vector<double> slope_bounds;  // degrees
  std::size_t slopes() const { return slope_bounds.size() + 1; }
  std::size_t aspects() const { return slopes(); }
  std::size_t levels() const { return aspects() + 8; }
  std::size_t ways() const { return levels() + 2; }
  std::size_t all() const { return ways() + kHowCount; }

  std::pair<std::string, std::string> name(std::size_t i) const {
    if (i < aspects()) {
      if (i == 0) return {"slope", fmt::format("below {:g} degrees", slope_bounds.empty() ? 90 : slope_bounds[0])};
      if (i == slope_bounds.size()) return {"slope", fmt::format("{:g} degrees and more", slope_bounds.back())};
      return {"slope", fmt::format("{:g} to {:g} degrees", slope_bounds[i - 1], slope_bounds[i])};
    }
    if (i < levels()) return {"aspect", sector_name(static_cast<int>(i - aspects()))};
    if (i < ways()) return {"level", i == levels() ? "land" : "sea"};
    return {"lineage", name_of(static_cast<How>(i - ways()))};
  }
};

// A class of one band: rows apart, so that joining them does not depend on where bands begin.
struct ClassPart {
  ErrorGathering errors;
  std::vector<Moments> rows;
};

// Ways to divide cells into classes.
enum Kind { kSlope, kAspect, kLevel, kLineage, kKinds };

constexpr std::int32_t kNoClass = -1;
constexpr std::int64_t kPiece = 512;
static_assert(kPiece % kVolumePatch == 0 && kVolumePatch % 8 == 0);

// Of differences about an origin.
struct Sums {
  double sum = 0, squares = 0;
  std::int64_t n = 0;
  void add(const Sums& o) {
    sum += o.sum;
    squares += o.squares;
    n += o.n;
  }
};

struct PatchRow {
  double sum = 0;
  std::int32_t n = 0;
  float largest = 0;
  std::int64_t col = 0;
};

struct VolumeRow {
  double above = 0, below = 0, area_above = 0, area_below = 0, area = 0;
  void add(const VolumeRow& o) {
    above += o.above;
    below += o.below;
    area_above += o.area_above;
    area_below += o.area_below;
    area += o.area;
  }
  void add(double d, double cell) {
    area += cell;
    if (d > 0) {
      above += d * cell;
      area_above += cell;
    } else if (d < 0) {
      below -= d * cell;
      area_below += cell;
    }
  }
  void to(VolumeChange& v, double unit) const {
    v.above += above * unit;
    v.below += below * unit;
    v.area_above += area_above;
    v.area_below += area_below;
    v.area += area;
  }
};

// Cells that lie beyond the level of detection, and what the level is.
struct DetectedRow {
  VolumeRow volume;
  std::int64_t cells = 0, known = 0;
  double squares = 0, lowest = INFINITY, highest = 0;  // of the level

  void add(double d, double level, double cell) {
    if (!(level > 0)) return;
    ++known;
    squares += level * level;
    lowest = std::min(lowest, level);
    highest = std::max(highest, level);
    if (std::abs(d) <= level) return;
    ++cells;
    volume.add(d, cell);
  }
  void to(Detection& all, double unit) const {
    volume.to(all.volume, unit);
    all.cells += cells;
    all.known += known;
    all.level += squares;  // its root is taken at the end
    if (known == 0) return;
    all.lowest = all.highest > 0 ? std::min(all.lowest, lowest) : lowest;
    all.highest = std::max(all.highest, highest);
  }
};

struct BandPart {
  std::vector<ClassPart> classes;  // the first is of all cells
  // Of a kind whose cells have been in one class so far, that class: its sketch is that of all cells, and is not made.
  std::array<std::int32_t, kKinds> only;
  std::vector<std::vector<PatchRow>> patches;
  std::vector<VolumeRow> volume;
  std::vector<DetectedRow> detected;
};

// One standard uncertainty as cells of the comparison have it, squared and in its unit.
class UncertaintyOf {
 public:
  UncertaintyOf(const Uncertainty& u, const Frame& frame, double unit, std::vector<std::string>& notes) {
    if (const auto* length = std::get_if<Length>(&u)) everywhere_ = std::pow(length->metres() / unit, 2);
    const auto* grid = std::get_if<Grid>(&u);
    if (!grid || !*grid) return;
    const QuantityKind kind = grid->quantity().kind;
    if (kind != QuantityKind::Uncertainty && kind != QuantityKind::Height && kind != QuantityKind::Unknown)
      throw Error(ErrorCode::BadArgument, fmt::format("holds {}, no uncertainty", name_of(kind)), grid->info().name,
                  "give a grid of standard uncertainties in a unit of length");
    by_place_ = on_frame(*grid, frame, notes);
    factor_ = metres_per(grid->quantity().unit) / unit;
  }
  bool by_place() const { return static_cast<bool>(by_place_); }
  Block read(const Window& w) const { return by_place_ ? by_place_.read(w) : Block(); }
  // `row`: of what was read; may be null.
  double squared(const float* row, std::int64_t col) const {
    if (!row) return everywhere_;
    const double u = static_cast<double>(row[col]) * factor_;
    return u * u;
  }

 private:
  double everywhere_ = 0, factor_ = 1;
  Grid by_place_;
};

std::vector<double> in_degrees(const std::vector<Angle>& angles) {
  std::vector<double> d;
  for (const Angle& a : angles) d.push_back(a.degrees());
  return d;
}

using Floats4 [[gnu::vector_size(16)]] = float;
using Doubles4 [[gnu::vector_size(32)]] = double;
using Integers4 [[gnu::vector_size(32)]] = std::int64_t;

KATOPTRA_CLONES void take_differences(const float* __restrict a, const float* __restrict b, std::int64_t n,
                                      float* __restrict d) {
  for (std::int64_t i = 0; i < n; ++i) d[i] = static_cast<float>(static_cast<double>(a[i]) - static_cast<double>(b[i]));
}

// How many of the bounds each value reaches, plus `from`; no class where it or the difference is a void.
KATOPTRA_CLONES void bounds_reached(const float* __restrict z, const float* __restrict d, std::int64_t n,
                                    std::span<const float> bounds, std::int32_t from, std::int32_t* __restrict k) {
  for (std::int64_t i = 0; i < n; ++i) k[i] = from;
  for (const float bound : bounds)
    for (std::int64_t i = 0; i < n; ++i) k[i] += z[i] >= bound ? 1 : 0;
  for (std::int64_t i = 0; i < n; ++i) k[i] = (z[i] == z[i]) & (d[i] == d[i]) ? k[i] : kNoClass;
}
KATOPTRA_CLONES void sectors_of_bounds(std::int64_t n, std::int32_t from, std::int32_t* __restrict k) {
  for (std::int64_t i = 0; i < n; ++i) k[i] = k[i] < 0 ? k[i] : from + k[i] % 8;
}
KATOPTRA_CLONES void ways_of(const Origin* __restrict origin, const float* __restrict d, std::int64_t n,
                             std::int32_t from, std::int32_t* __restrict k) {
  for (std::int64_t i = 0; i < n; ++i)
    k[i] = d[i] == d[i] ? from + static_cast<std::int32_t>(how_of(origin[i])) : kNoClass;
}
KATOPTRA_CLONES bool are_alike(const std::int32_t* k, std::int64_t n) {
  std::int32_t most = kNoClass, others = 0;
  for (std::int64_t i = 0; i < n; ++i) most = k[i] > most ? k[i] : most;
  for (std::int64_t i = 0; i < n; ++i) others |= (k[i] != most) & (k[i] != kNoClass) ? 1 : 0;
  return others == 0;
}

// The least float that is not below `v`: a float reaches the one where it reaches the other.
float edge_of(double v) {
  const auto f = static_cast<float>(v);
  return static_cast<double>(f) < v ? std::nextafter(f, INFINITY) : f;
}
// Where the sectors of aspect begin (sectors.hpp); behind the last is the first again.
constexpr float kSectorEdges[8] = {22.5f, 67.5f, 112.5f, 157.5f, 202.5f, 247.5f, 292.5f, 337.5f};

struct PatchSums {
  Sums about_origin;
  VolumeRow volume;
  double sum = 0;
  float lowest = INFINITY, highest = -INFINITY;
};

// Of the differences of up to a patch; four lanes that are joined in order, so that it is the same for all machines.
KATOPTRA_CLONES PatchSums sums_of(const float* d, const double* area, std::int64_t n, double origin) {
  const Doubles4 zero{};
  Doubles4 sum{}, about{}, squares{}, above{}, below{}, area_above{}, area_below{}, all{};
  Doubles4 lowest = zero + INFINITY, highest = zero - INFINITY;
  Integers4 known{};
  for (std::int64_t i = 0; i < n; i += 4) {
    Floats4 f;
    Doubles4 a;
    if (i + 4 <= n) {
      std::memcpy(&f, d + i, sizeof f);
      std::memcpy(&a, area + i, sizeof a);
    } else {
      f = Floats4{} + NAN;
      a = zero;
      std::copy(d + i, d + n, reinterpret_cast<float*>(&f));
      std::copy(area + i, area + n, reinterpret_cast<double*>(&a));
    }
    Doubles4 v = __builtin_convertvector(f, Doubles4);
    const Integers4 is = v == v;
    lowest = v < lowest ? v : lowest;
    highest = v > highest ? v : highest;
    const Doubles4 off = is ? v - origin : zero;
    v = is ? v : zero;
    sum += v;
    about += off;
    squares += off * off;
    known -= is;
    const Integers4 up = v > zero, down = v < zero;
    above += up ? v * a : zero;
    below -= down ? v * a : zero;
    area_above += up ? a : zero;
    area_below += down ? a : zero;
    all += is ? a : zero;
  }
  PatchSums s;
  for (int k = 0; k < 4; ++k) {
    s.sum += sum[k];
    s.about_origin.add({about[k], squares[k], known[k]});
    s.volume.add({above[k], below[k], area_above[k], area_below[k], all[k]});
    s.lowest = std::min(s.lowest, static_cast<float>(lowest[k]));
    s.highest = std::max(s.highest, static_cast<float>(highest[k]));
  }
  return s;
}

class Comparing {
 public:
  Comparing(const CompareOptions& o, Comparison& c)
      : options_(o), out_(c), classes_{in_degrees(o.slope_bounds)}, areas_(c.frame), ruler_(c.frame.crs()) {
    unit_ = metres_per(c.first_here.quantity().unit);
    sea_edge_ = edge_of(o.sea_level.in(c.first_here.quantity().unit));
    for (double bound : classes_.slope_bounds) slope_edges_.push_back(edge_of(bound));
    for (const Uncertainty* u : {&o.uncertainty_first, &o.uncertainty_second}) {
      uncertainties_.emplace_back(*u, c.frame, unit_, c.notes);
      detecting_ = detecting_ || u->index() > 0;
    }
    if (o.area) mask_.emplace(o.area->in(c.frame.crs()).shape(), c.frame);
    origin_ = sampled_median();
  }

  void run() {
    std::vector<ErrorGathering> all(1, ErrorGathering(origin_, kAllBits));
    all.resize(classes_.all() + 1, ErrorGathering(origin_, kClassBits));
    std::vector<PatchRow> open;
    VolumeChange volume;
    Detection detected;
    std::int64_t row = 0;
    map_bands(
        out_.second_here, Planes::Values, 0, options_.run,
        [&](Block b, const Window& band) -> std::shared_ptr<void> { return scan(b, band); },
        [&](std::shared_ptr<void> part) {
          const BandPart& p = *static_cast<const BandPart*>(part.get());
          for (std::size_t k = 0; k < all.size(); ++k) {
            all[k].add(p.classes[k].errors);
            for (const Moments& m : p.classes[k].rows) all[k].moments.add(m);
          }
          for (const VolumeRow& v : p.volume) v.to(volume, unit_);
          for (const DetectedRow& d : p.detected) d.to(detected, unit_);
          for (const auto& patches : p.patches) {
            join_patches(open, patches);
            if (++row % kVolumePatch == 0 || row == out_.frame.rows()) close_patches(open, row);
          }
        });
    results(all, volume, detected);
  }

 private:
  // About where the differences lie, so that the sketch is fine there.
  double sampled_median() const {
    const Frame& f = out_.frame;
    std::vector<double> d;
    const std::int64_t rows = std::min<std::int64_t>(f.rows(), 64);
    for (std::int64_t i = 0; i < rows; ++i) {
      const std::int64_t r = (2 * i + 1) * f.rows() / (2 * rows);
      const Window w{0, r, std::min<std::int64_t>(f.cols(), 4096), 1};
      const Block b = out_.difference.read({(f.cols() - w.cols) / 2, r, w.cols, 1});
      for (std::int64_t c = 0; c < w.cols; ++c)
        if (!std::isnan(b.row(0)[c])) d.push_back(static_cast<double>(b.row(0)[c]));
    }
    const double m = median_of(std::move(d));
    return std::isnan(m) ? 0 : m;
  }

  std::shared_ptr<BandPart> scan(const Block& b, const Window& band) const {
    auto part = std::make_shared<BandPart>();
    part->classes.assign(1, {ErrorGathering(origin_, kAllBits), {}});
    part->classes.resize(classes_.all() + 1, {ErrorGathering(origin_, kClassBits), {}});
    part->only.fill(kNoClass);
    const Block a = out_.first_here.read(band.grown(1), Planes::ValuesAndOrigin);
    const GradientField gradients(out_.frame, ruler_, scale_step_, unit_, false, band);
    std::vector<float> p(static_cast<std::size_t>(band.cols)), q(p.size()), slopes(p.size()), aspects(p.size());
    const Block u1 = uncertainties_[0].read(band), u2 = uncertainties_[1].read(band);
    for (std::int64_t r = 0; r < band.rows; ++r) {
      gradients.row(a, r, p.data(), q.data());
      slopes_in_degrees(p.data(), q.data(), band.cols, slopes.data());
      aspects_in_degrees(p.data(), q.data(), band.cols, aspects.data());
      Row row{a.row(r + 1) + 1, a.origin_row(r + 1) + 1, b.row(r), slopes.data(), aspects.data(), {}, band.row + r};
      row.uncertainty = {uncertainties_[0].by_place() ? u1.row(r) : nullptr,
                         uncertainties_[1].by_place() ? u2.row(r) : nullptr};
      scan_row(row, band.cols, *part);
    }
    for (std::int32_t& only : part->only) make_sketch(*part, only);
    return part;
  }

  struct Row {
    const float* a;
    const Origin* origin;
    const float *b, *slope, *aspect;
    std::array<const float*, 2> uncertainty;
    std::int64_t row;
  };
  // Some cells of a row.
  struct Piece {
    std::int64_t first = 0, n = 0;
    std::array<float, kPiece> d;
    std::array<std::uint32_t, kPiece> bins;
    std::array<double, kPiece> areas;
    std::array<std::int32_t, kPiece> classes;  // of one kind
  };

  void scan_row(const Row& in, std::int64_t cols, BandPart& part) const {
    std::vector<Sums> sums(classes_.all() + 1);
    std::vector<PatchRow> patches(static_cast<std::size_t>((cols + kVolumePatch - 1) / kVolumePatch));
    VolumeRow volume;
    DetectedRow detected;
    const CellAreas::Row areas = areas_.row(in.row);
    const auto spans = mask_ ? mask_->spans(in.row) : std::vector<std::pair<std::int64_t, std::int64_t>>{{0, cols}};
    Piece piece;
    for (auto [first, last] : spans)
      for (std::int64_t c = first; c < last; c += piece.n) {
        piece.first = c;
        piece.n = std::min(last, (c / kPiece + 1) * kPiece) - c;
        take_differences(in.a + c, in.b + c, piece.n, piece.d.data());
        part.classes[0].errors.sketch.bins_of(piece.d.data(), piece.n, piece.bins.data());
        areas.read(c, std::span(piece.areas).first(static_cast<std::size_t>(piece.n)));
        scan_piece(in, piece, part, sums, patches, volume);
        for (std::int64_t i = 0; detecting_ && i < piece.n; ++i)
          if (const float d = piece.d[static_cast<std::size_t>(i)]; !std::isnan(d))
            detected.add(static_cast<double>(d), level_at(in, c + i), piece.areas[static_cast<std::size_t>(i)]);
      }
    for (std::size_t k = 0; k < sums.size(); ++k) {
      const Sums& s = sums[k];
      if (s.n == 0) continue;
      const auto n = static_cast<double>(s.n);
      part.classes[k].rows.push_back({s.n, origin_ + s.sum / n, std::max(0.0, s.squares - s.sum * s.sum / n)});
    }
    part.patches.push_back(std::move(patches));
    part.volume.push_back(volume);
    part.detected.push_back(detected);
  }

  void scan_piece(const Row& in, Piece& p, BandPart& part, std::vector<Sums>& sums, std::vector<PatchRow>& patches,
                  VolumeRow& volume) const {
    // Patch by patch, as far as the piece covers them.
    Sums of_piece;
    ErrorGathering& all = part.classes[0].errors;
    float lowest = INFINITY, highest = -INFINITY;
    for (std::int64_t i = 0; i < p.n;) {
      const std::int64_t k = (p.first + i) / kVolumePatch, end = std::min(p.n, (k + 1) * kVolumePatch - p.first);
      const PatchSums s = sums_of(p.d.data() + i, p.areas.data() + i, end - i, origin_);
      of_piece.add(s.about_origin);
      volume.add(s.volume);
      lowest = std::min(lowest, s.lowest);
      highest = std::max(highest, s.highest);
      PatchRow& patch = patches[static_cast<std::size_t>(k)];
      patch.sum += s.sum;
      patch.n += static_cast<std::int32_t>(s.about_origin.n);
      if (const float most = std::max(-s.lowest, s.highest); most > std::abs(patch.largest)) {
        while (std::abs(p.d[static_cast<std::size_t>(i)]) != most) ++i;
        patch.largest = p.d[static_cast<std::size_t>(i)];
        patch.col = p.first + i;
      }
      i = end;
    }
    if (of_piece.n == 0) return;
    for (int kind = 0; kind < kKinds; ++kind) {
      const bool alike = classify(static_cast<Kind>(kind), in, p);
      if (kind >= kLevel && alike)
        count_alike(kind, of_piece, lowest, highest, p, part, sums);
      else
        count_apart(kind, p, part, sums);
    }
    sums[0].add(of_piece);
    all.meet(static_cast<double>(lowest), static_cast<double>(highest));
    all.sketch.add_bins(p.bins.data(), p.n);
  }

  // The class of each cell of a piece, numbered through all kinds; whether all that are in any are in one.
  bool classify(Kind kind, const Row& in, Piece& p) const {
    std::int32_t* k = p.classes.data();
    if (kind == kSlope) {
      bounds_reached(in.slope + p.first, p.d.data(), p.n, slope_edges_, 0, k);
    } else if (kind == kAspect) {
      bounds_reached(in.aspect + p.first, p.d.data(), p.n, kSectorEdges, 0, k);
      sectors_of_bounds(p.n, static_cast<std::int32_t>(classes_.aspects()), k);
    } else if (kind == kLevel) {
      bounds_reached(in.a + p.first, p.d.data(), p.n, {&sea_edge_, 1}, 0, k);
      // Land is the first of the two.
      for (std::int64_t i = 0; i < p.n; ++i)
        k[i] = k[i] < 0 ? k[i] : static_cast<std::int32_t>(classes_.levels()) + 1 - k[i];
    } else {
      ways_of(in.origin + p.first, p.d.data(), p.n, static_cast<std::int32_t>(classes_.ways()), k);
    }
    return kind >= kLevel && are_alike(k, p.n);
  }

  // All cells of a piece are in one class, as far as they are in any.
  void count_alike(int kind, const Sums& of_piece, float lowest, float highest, const Piece& p, BandPart& part,
                   std::vector<Sums>& sums) const {
    const std::int32_t k = *std::max_element(p.classes.data(), p.classes.data() + p.n);
    const auto at = static_cast<std::size_t>(k) + 1;
    ErrorGathering& errors = part.classes[at].errors;
    sums[at].add(of_piece);
    errors.meet(static_cast<double>(lowest), static_cast<double>(highest));
    std::int32_t& only = part.only[static_cast<std::size_t>(kind)];
    if (part.classes[0].errors.sketch.count() == 0) only = k;
    if (only == k) return;
    make_sketch(part, only);
    errors.sketch.add_bins(p.bins.data(), p.n, kAllBits - kClassBits);
  }
  void count_apart(int kind, const Piece& p, BandPart& part, std::vector<Sums>& sums) const {
    make_sketch(part, part.only[static_cast<std::size_t>(kind)]);
    // Neighbours are often in one class: their sums take turns, so that none waits for the one before.
    std::array<std::vector<Sums>, 2> turns;
    turns.fill(std::vector<Sums>(sums.size()));
    for (std::size_t i = 0; i < static_cast<std::size_t>(p.n); ++i) {
      if (p.classes[i] == kNoClass) continue;
      const std::size_t k = static_cast<std::size_t>(p.classes[i]) + 1;
      const double v = static_cast<double>(p.d[i]), off = v - origin_;
      ErrorGathering& errors = part.classes[k].errors;
      errors.sketch.count_in(p.bins[i] >> (kAllBits - kClassBits));
      if (v < errors.lowest) errors.lowest = v;
      if (v > errors.highest) errors.highest = v;
      Sums& s = turns[i % 2][k];
      s.sum += off;
      s.squares += off * off;
      ++s.n;
    }
    for (std::size_t k = 0; k < sums.size(); ++k)
      for (const auto& turn : turns) {
        part.classes[k].errors.sketch.counted(turn[k].n);
        sums[k].add(turn[k]);
      }
  }
  // Of a class that held all cells so far, before it no longer does.
  static void make_sketch(BandPart& part, std::int32_t& only) {
    if (only != kNoClass)
      part.classes[static_cast<std::size_t>(only) + 1].errors.sketch.add(part.classes[0].errors.sketch);
    only = kNoClass;
  }

  // 1.96 times both uncertainties; NaN where one is not known.
  double level_at(const Row& in, std::int64_t c) const {
    return kTwoSided95 *
           std::sqrt(uncertainties_[0].squared(in.uncertainty[0], c) + uncertainties_[1].squared(in.uncertainty[1], c));
  }

  void join_patches(std::vector<PatchRow>& open, const std::vector<PatchRow>& row) {
    if (open.empty()) {
      open.resize(row.size());
      largest_row_.assign(row.size(), 0);
    }
    for (std::size_t i = 0; i < row.size(); ++i) {
      open[i].sum += row[i].sum;
      open[i].n += row[i].n;
      if (std::abs(row[i].largest) > std::abs(open[i].largest)) {
        open[i].largest = row[i].largest;
        open[i].col = row[i].col;
        largest_row_[i] = rows_joined_;
      }
    }
    ++rows_joined_;
  }

  void close_patches(std::vector<PatchRow>& open, std::int64_t end) {
    const std::int64_t begin = (end - 1) / kVolumePatch * kVolumePatch;
    for (std::size_t i = 0; i < open.size(); ++i) {
      const PatchRow& p = open[i];
      if (p.n == 0) continue;
      const std::int64_t col = static_cast<std::int64_t>(i) * kVolumePatch;
      const Window w = Window{col, begin, kVolumePatch, end - begin}.intersected(out_.frame.window());
      out_.worst.push_back({out_.frame.centre(static_cast<double>(p.col), static_cast<double>(largest_row_[i])),
                            static_cast<double>(p.largest), p.sum / p.n, out_.frame.sub(w).bounds()});
    }
    std::stable_sort(out_.worst.begin(), out_.worst.end(), [](const WorstPlace& a, const WorstPlace& b) {
      return std::abs(a.difference) > std::abs(b.difference);
    });
    if (out_.worst.size() > kWorstPlaces) out_.worst.resize(kWorstPlaces);
    open.clear();
  }

  void results(const std::vector<ErrorGathering>& all, VolumeChange volume, Detection detected) {
    out_.overall = all[0].result();
    out_.sketch = all[0].sketch;
    if (out_.overall.count == 0)
      throw Error(ErrorCode::BadArgument, fmt::format("and {} have no cell in common", out_.second), out_.first,
                  "check the area and the voids of both");
    for (std::size_t k = 0; k < classes_.all(); ++k)
      if (ErrorStatistics s = all[k + 1].result(); s.count > 0) {
        auto [of, name] = classes_.name(k);
        // A class that holds all cells tells no more than the whole.
        if (s.count < out_.overall.count) out_.classes.push_back({of, name, s});
      }
    if (detected.known > 0) detected.level = std::sqrt(detected.level / static_cast<double>(detected.known));
    const ErrorModel model = error_model();
    const double spread = detected.level > 0 ? detected.level / kTwoSided95 : std::sqrt(model.variance());
    const auto independent = [&](std::int64_t cells) {
      const auto n = static_cast<double>(cells);
      return std::max(1.0, n / model.alike(std::sqrt(n)));
    };
    out_.independent_cells = independent(out_.overall.count);
    auto uncertain = [&](VolumeChange& v, std::int64_t cells) {
      const double n = independent(cells);
      v.uncertainty = two_sided_95(n) * v.area * spread * unit_ / std::sqrt(n);
    };
    uncertain(volume, out_.overall.count);
    out_.volume = volume;
    if (detected.known == 0) {
      if (detecting_)
        out_.notes.push_back("no level of detection: the uncertainties given are zero or void everywhere");
      return;
    }
    uncertain(detected.volume, detected.cells);
    detected.share = static_cast<double>(detected.cells) / static_cast<double>(detected.known);
    out_.detection = detected;
  }

  // How errors of neighbours go together, from windows spread over the difference; what stands off has changed, and is
  // no error.
  ErrorModel error_model() const {
    constexpr std::int64_t kWindow = 256, kMostWindows = 24;
    const Frame& f = out_.frame;
    const std::int64_t nx = (f.cols() + kWindow - 1) / kWindow, ny = (f.rows() + kWindow - 1) / kWindow;
    const Spread spread = spread_over(nx, ny, kMostWindows);
    std::vector<Variogram> parts(static_cast<std::size_t>(spread.count()));
    parallel_for(parts.size(), options_.run, [&](std::size_t i) {
      const std::int64_t k = static_cast<std::int64_t>(i) / spread.across,
                         l = static_cast<std::int64_t>(i) % spread.across;
      const Window w =
          Window{placed(l, spread.across, nx) * kWindow, placed(k, spread.down, ny) * kWindow, kWindow, kWindow}
              .intersected(f.window());
      parts[i].add(errors_in(w), w.cols, w.rows);
    });
    Variogram all;
    for (const Variogram& v : parts) all.add(v);
    return all.fit();
  }

  // The differences in a window that may be errors; void elsewhere.
  std::vector<float> errors_in(const Window& w) const {
    const Block d = out_.difference.read(w);
    const double limit = kStandsOff * out_.overall.nmad;
    std::vector<float> errors(static_cast<std::size_t>(w.cells()), kVoid);
    for (std::int64_t r = 0; r < w.rows; ++r) {
      const auto spans =
          mask_ ? mask_->spans(w.row + r) : std::vector<std::pair<std::int64_t, std::int64_t>>{{0, out_.frame.cols()}};
      for (auto [first, last] : spans)
        for (std::int64_t c = std::max<std::int64_t>(0, first - w.col); c < std::min(w.cols, last - w.col); ++c)
          if (const float v = d.at(c, r); std::abs(static_cast<double>(v) - out_.overall.median) <= limit)
            errors[static_cast<std::size_t>(r * w.cols + c)] = v;
    }
    return errors;
  }

  const CompareOptions& options_;
  Comparison& out_;
  Classes classes_;
  CellAreas areas_;
  GroundRuler ruler_;
  std::int64_t scale_step_ = scale_step(out_.frame);
  std::optional<CellMask> mask_;
  std::vector<UncertaintyOf> uncertainties_;  // of both
  bool detecting_ = false;
  double unit_ = 1, origin_ = 0;
  float sea_edge_ = 0;
  std::vector<float> slope_edges_;
  std::int64_t rows_joined_ = 0;
  std::vector<std::int64_t> largest_row_;
};

}  // namespace

std::pair<Grid, Grid> brought_together(const Grid& first, const Grid& second, std::vector<std::string>& notes) {
  require_comparable(first);
  require_comparable(second);
  const HeightReference &ha = first.quantity().heights, &hb = second.quantity().heights;
  if (ha.known() != hb.known())
    throw Error(ErrorCode::Refused,
                fmt::format("does not say from where its heights count, {} counts from {}",
                            ha.known() ? first.info().name : second.info().name, ha.known() ? ha.name() : hb.name()),
                ha.known() ? second.info().name : first.info().name, "tell it with --heights");
  // Neighbours across the antimeridian are told from one side of it.
  Grid b = first.frame().crs().is_geographic() ? around_longitude(second, first.frame().bounds().centre().x) : second;
  if (ha.known() && !(ha == hb)) {
    b = to_heights(b, ha);
    notes.push_back(fmt::format("{}: brought from {} to {}", second.info().name, hb.name(), ha.name()));
  }
  if (!ha.known()) notes.push_back("neither says from where its heights count: they are taken to be the same");
  if (b.quantity().unit != first.quantity().unit) {
    notes.push_back(fmt::format("{}: brought from {} to {}", second.info().name, symbol(b.quantity().unit),
                                symbol(first.quantity().unit)));
    b = in_unit(b, first.quantity().unit);
  }
  for (const Grid* g : {&first, &second})
    if (!g->quantity().unit_known)
      notes.push_back(fmt::format("{}: does not say in which unit its heights are: {} was taken", g->info().name,
                                  symbol(g->quantity().unit)));
  const SurfaceKind ka = first.quantity().surface, kb = second.quantity().surface;
  if (ka != kb && ka != SurfaceKind::Unknown && kb != SurfaceKind::Unknown)
    notes.push_back(fmt::format("{} is of the {}, {} of the {}: what stands between them is part of the difference",
                                first.info().name, name_of(ka), second.info().name, name_of(kb)));
  const Frame f = common_frame(first, b);
  return {on_frame(first, f, notes), on_frame(b, f, notes)};
}

std::pair<double, double> Comparison::robust_range() const {
  const double low = std::min(0.0, sketch.quantile(0.005)), high = std::max(0.0, sketch.quantile(0.995));
  return high > low ? std::pair{low, high} : std::pair{-1.0, 1.0};
}

Comparison compare(const Grid& first, const Grid& second, const CompareOptions& options) {
  Comparison c;
  c.first = first.info().name;
  c.second = second.info().name;
  std::tie(c.first_here, c.second_here) = brought_together(first, second, c.notes);
  c.frame = c.first_here.frame();
  c.difference = difference_of(c.first_here, c.second_here);
  Comparing(options, c).run();
  if (options.coregister) {
    // The second with its own cells, so that it is resampled once only.
    Grid b = second;
    if (c.second_here.quantity().heights.known()) b = to_heights(b, c.second_here.quantity().heights);
    const Grid a = options.area ? clip(c.first_here, *options.area) : c.first_here;
    c.coregistration = coregister(a, b, {.rotation = options.rotation, .run = options.run});
  }
  return c;
}

Grid corrected_second(const Comparison& c, const Grid& second) {
  if (!c.coregistration || !c.coregistration->found)
    throw Error(ErrorCode::BadArgument,
                "no shift was found that could be taken out" +
                    (c.coregistration ? ": " + c.coregistration->why : std::string()),
                second.info().name, "compare over ground with some slope");
  const HeightReference& to = c.second_here.quantity().heights;
  return corrected(to.known() ? to_heights(second, to) : second, c.coregistration->correction());
}

Layer worst_layer(const Comparison& c) {
  Layer layer{.name = "worst places", .crs = c.frame.crs(), .features = {}};
  for (const WorstPlace& w : c.worst)
    layer.features.push_back({w.place,
                              {{"difference", w.difference},
                               {"patch_mean", w.patch_mean},
                               {"unit", std::string(unit_name(c.difference.quantity()))}},
                              {}});
  return layer;
}

}  // namespace katoptra
