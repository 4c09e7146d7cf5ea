// A row is gone through in pieces that stay in the nearest cache: differences and their bins, then sums patch by patch
// in vectors, then classes. Slope and aspect are told apart by gradients, without an angle, and cells are summed by
// both at once. Where another way of dividing cells has all of a piece in one class, as lineage and level mostly have,
// the sums of the piece are the class's; else cells are counted one by one.
#include "difference_rows.hpp"

#include <algorithm>
#include <cstring>
#include <fmt/format.h>
#include <numbers>

#include "base/clones.hpp"
#include "sectors.hpp"

namespace katoptra {
namespace {

constexpr int kAllBits = 11, kClassBits = 9;  // quantiles of a class to 1/512 of their distance from the median
constexpr std::int32_t kNoClass = -1, kNoSector = 8, kSectors = 9;
constexpr float kTanOfSixteenth = 0.41421356f;  // of the circle, where the first sector ends
constexpr std::int64_t kPiece = 512;
static_assert(kPiece % kVolumePatch == 0);

// Of differences about an origin.
struct ClassSums {
  double sum = 0, squares = 0;
  std::int64_t n = 0;
  void add(const ClassSums& o) {
    sum += o.sum;
    squares += o.squares;
    n += o.n;
  }
};

KATOPTRA_CLONES void take_differences(const float* __restrict a, const float* __restrict b, std::int64_t n,
                                      float* __restrict d) {
  for (std::int64_t i = 0; i < n; ++i) d[i] = static_cast<float>(static_cast<double>(a[i]) - static_cast<double>(b[i]));
}

// How many of the bounds each value reaches; no class where it or the difference is a void.
KATOPTRA_CLONES void bounds_reached(const float* __restrict z, const float* __restrict d, std::int64_t n,
                                    std::span<const float> bounds, std::int32_t* __restrict k) {
  for (std::int64_t i = 0; i < n; ++i) k[i] = 0;
  for (const float bound : bounds)
    for (std::int64_t i = 0; i < n; ++i) k[i] += z[i] >= bound ? 1 : 0;
  for (std::int64_t i = 0; i < n; ++i) k[i] = (z[i] == z[i]) & (d[i] == d[i]) ? k[i] : kNoClass;
}
KATOPTRA_CLONES void squares_of(const float* __restrict p, const float* __restrict q, std::int64_t n,
                                float* __restrict s) {
  for (std::int64_t i = 0; i < n; ++i) s[i] = p[i] * p[i] + q[i] * q[i];
}
// The sector of aspect that gradients fall towards; kNoSector where the ground is flat.
KATOPTRA_CLONES void sectors_of(const float* __restrict p, const float* __restrict q, std::int64_t n,
                                std::int32_t* __restrict k) {
  for (std::int64_t i = 0; i < n; ++i) {
    const float across = std::abs(p[i]), along = std::abs(q[i]);
    std::int32_t from_north = (across >= kTanOfSixteenth * along ? 1 : 0) + (across * kTanOfSixteenth >= along ? 1 : 0);
    from_north = q[i] > 0 ? 4 - from_north : from_north;
    from_north = p[i] > 0 ? (8 - from_north) % 8 : from_north;
    k[i] = (p[i] == 0) & (q[i] == 0) ? kNoSector : from_north;
  }
}
KATOPTRA_CLONES void land_and_sea(const float* __restrict z, const float* __restrict d, std::int64_t n, float sea,
                                  std::int32_t land, std::int32_t* __restrict k) {
  for (std::int64_t i = 0; i < n; ++i) k[i] = (z[i] == z[i]) & (d[i] == d[i]) ? land + (z[i] >= sea ? 0 : 1) : kNoClass;
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
// Of a slope: the least square of a gradient that is not below it.
float square_at(double degrees) {
  if (degrees <= 0) return 0;
  if (degrees >= 90) return INFINITY;
  const double rise = std::tan(degrees * std::numbers::pi / 180);
  return edge_of(rise * rise);
}

// Of the cells of a row that are of one slope and one sector.
struct GroundSums {
  ClassSums sums;
  float lowest = INFINITY, highest = -INFINITY;
};

struct PatchSums {
  ClassSums about_origin;
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

// Of a class that held all cells so far, before it no longer does.
void make_sketch(DifferencePart& part, std::int32_t& only) {
  if (only != kNoClass)
    part.classes[static_cast<std::size_t>(only) + 1].errors.sketch.add(part.classes[0].errors.sketch);
  only = kNoClass;
}

}  // namespace

// ------------------------------------------------------------------------------------------------- what is gathered

std::pair<std::string, std::string> DifferenceClasses::name(std::size_t i) const {
  if (i < aspects()) {
    if (i == 0) return {"slope", fmt::format("below {:g} degrees", slope_bounds.empty() ? 90 : slope_bounds[0])};
    if (i == slope_bounds.size()) return {"slope", fmt::format("{:g} degrees and more", slope_bounds.back())};
    return {"slope", fmt::format("{:g} to {:g} degrees", slope_bounds[i - 1], slope_bounds[i])};
  }
  if (i < levels()) return {"aspect", sector_name(static_cast<int>(i - aspects()))};
  if (i < ways()) return {"level", i == levels() ? "land" : "sea"};
  return {"lineage", name_of(static_cast<How>(i - ways()))};
}

void VolumeRow::add(const VolumeRow& o) {
  above += o.above;
  below += o.below;
  area_above += o.area_above;
  area_below += o.area_below;
  area += o.area;
}
void VolumeRow::add(double d, double cell) {
  area += cell;
  if (d > 0) {
    above += d * cell;
    area_above += cell;
  } else if (d < 0) {
    below -= d * cell;
    area_below += cell;
  }
}
void VolumeRow::to(VolumeChange& v, double unit) const {
  v.above += above * unit;
  v.below += below * unit;
  v.area_above += area_above;
  v.area_below += area_below;
  v.area += area;
}

void DetectedRow::add(double d, double level, double cell) {
  if (!(level > 0)) return;
  ++known;
  squares += level * level;
  lowest = std::min(lowest, level);
  highest = std::max(highest, level);
  if (std::abs(d) <= level) return;
  ++cells;
  volume.add(d, cell);
}
void DetectedRow::to(Detection& all, double unit) const {
  volume.to(all.volume, unit);
  all.cells += cells;
  all.known += known;
  all.level += squares;  // its root is taken at the end
  if (known == 0) return;
  all.lowest = all.highest > 0 ? std::min(all.lowest, lowest) : lowest;
  all.highest = std::max(all.highest, highest);
}

// ---------------------------------------------------------------------------------------------------------- the rows

// Some cells of a row.
struct DifferenceRows::Piece {
  std::int64_t first = 0, n = 0;
  std::array<float, kPiece> d;
  std::array<std::uint32_t, kPiece> bins;
  std::array<double, kPiece> areas;
  std::array<std::int32_t, kPiece> classes, sectors;  // classes of one kind
  ClassSums sums;
  float lowest = INFINITY, highest = -INFINITY;
};

struct DifferenceRows::RowSums {
  explicit RowSums(const DifferenceClasses& classes) : alike(classes.all() + 1) {
    apart.fill(std::vector<ClassSums>(alike.size()));
    ground.fill(std::vector<GroundSums>(classes.slopes() * kSectors));
  }
  std::vector<ClassSums> alike;  // by class
  // Neighbours are often in one class: those counted one by one take turns, so that none waits for the one before.
  std::array<std::vector<ClassSums>, 2> apart;
  std::array<std::vector<GroundSums>, 2> ground;  // by slope and sector
  std::vector<PatchRow> patches;
  VolumeRow volume;
};

DifferenceRows::DifferenceRows(const Frame& frame, DifferenceClasses classes, double sea, double origin)
    : cols_(frame.cols()), classes_(std::move(classes)), areas_(frame), origin_(origin), sea_edge_(edge_of(sea)) {
  for (double bound : classes_.slope_bounds) slope_edges_.push_back(square_at(bound));
}

DifferencePart DifferenceRows::part() const {
  DifferencePart p;
  p.classes.assign(1, {ErrorGathering(origin_, kAllBits), {}});
  p.classes.resize(classes_.all() + 1, {ErrorGathering(origin_, kClassBits), {}});
  p.only.fill(kNoClass);
  return p;
}

void DifferenceRows::finish(DifferencePart& part) const {
  for (std::int32_t& only : part.only) make_sketch(part, only);
}

void DifferenceRows::add(const Row& in, const Spans& spans, DifferencePart& part) const {
  RowSums sums(classes_);
  sums.patches.resize(static_cast<std::size_t>((cols_ + kVolumePatch - 1) / kVolumePatch));
  DetectedRow detected;
  const CellAreas::Row areas = areas_.row(in.row);
  for (auto [first, last] : spans)
    for (std::int64_t c = first; c < last;) {
      Piece p;
      p.first = c;
      p.n = std::min(last, (c / kPiece + 1) * kPiece) - c;
      take_differences(in.a + c, in.b + c, p.n, p.d.data());
      part.classes[0].errors.sketch.bins_of(p.d.data(), p.n, p.bins.data());
      areas.read(c, std::span(p.areas).first(static_cast<std::size_t>(p.n)));
      add_piece(in, p, part, sums);
      if (!in.level.empty())
        for (std::size_t i = 0; i < static_cast<std::size_t>(p.n); ++i)
          if (!std::isnan(p.d[i]))
            detected.add(static_cast<double>(p.d[i]), in.level[static_cast<std::size_t>(c) + i], p.areas[i]);
      c += p.n;
    }
  join_ground(part, sums);
  for (std::size_t k = 0; k < sums.alike.size(); ++k) {
    ClassSums s = sums.alike[k];
    for (const auto& turn : sums.apart) {
      part.classes[k].errors.sketch.counted(turn[k].n);
      s.add(turn[k]);
    }
    if (s.n == 0) continue;
    const auto n = static_cast<double>(s.n);
    part.classes[k].rows.push_back({s.n, origin_ + s.sum / n, std::max(0.0, s.squares - s.sum * s.sum / n)});
  }
  part.patches.push_back(std::move(sums.patches));
  part.volume.push_back(sums.volume);
  part.detected.push_back(detected);
}

void DifferenceRows::add_piece(const Row& in, Piece& p, DifferencePart& part, RowSums& sums) const {
  // Patch by patch, as far as the piece covers them.
  for (std::int64_t i = 0; i < p.n;) {
    const std::int64_t k = (p.first + i) / kVolumePatch, end = std::min(p.n, (k + 1) * kVolumePatch - p.first);
    const PatchSums s = sums_of(p.d.data() + i, p.areas.data() + i, end - i, origin_);
    p.sums.add(s.about_origin);
    sums.volume.add(s.volume);
    p.lowest = std::min(p.lowest, s.lowest);
    p.highest = std::max(p.highest, s.highest);
    PatchRow& patch = sums.patches[static_cast<std::size_t>(k)];
    patch.sum += s.sum;
    patch.n += static_cast<std::int32_t>(s.about_origin.n);
    if (const float most = std::max(-s.lowest, s.highest); most > std::abs(patch.largest)) {
      while (std::abs(p.d[static_cast<std::size_t>(i)]) != most) ++i;
      patch.largest = p.d[static_cast<std::size_t>(i)];
      patch.col = p.first + i;
    }
    i = end;
  }
  if (p.sums.n == 0) return;
  count_by_ground(in, p, part, sums);
  for (const Kind kind : {kLevel, kLineage})
    if (classify(kind, in, p))
      count_alike(kind, p, part, sums);
    else
      count_apart(kind, p, part, sums);
  sums.alike[0].add(p.sums);
  ErrorGathering& all = part.classes[0].errors;
  all.meet(static_cast<double>(p.lowest), static_cast<double>(p.highest));
  all.sketch.add_bins(p.bins.data(), p.n);
}

// By slope and by aspect, which a cell on flat ground has not.
void DifferenceRows::count_by_ground(const Row& in, Piece& p, DifferencePart& part, RowSums& sums) const {
  std::array<float, kPiece> squares;
  squares_of(in.p + p.first, in.q + p.first, p.n, squares.data());
  bounds_reached(squares.data(), p.d.data(), p.n, slope_edges_, p.classes.data());
  sectors_of(in.p + p.first, in.q + p.first, p.n, p.sectors.data());
  ClassPart *slopes = part.classes.data() + 1, *aspects = slopes + classes_.aspects();
  GroundSums* turns[] = {sums.ground[0].data(), sums.ground[1].data()};
  for (std::size_t i = 0; i < static_cast<std::size_t>(p.n); ++i) {
    const std::int32_t slope = p.classes[i], sector = p.sectors[i];
    if (slope == kNoClass) continue;
    const std::uint32_t bin = p.bins[i] >> (kAllBits - kClassBits);
    slopes[slope].errors.sketch.count_in(bin);
    if (sector != kNoSector) aspects[sector].errors.sketch.count_in(bin);
    GroundSums& s = turns[i % 2][slope * kSectors + sector];
    const float d = p.d[i];
    const double off = static_cast<double>(d) - origin_;
    s.sums.add({off, off * off, 1});
    if (d < s.lowest) s.lowest = d;
    if (d > s.highest) s.highest = d;
  }
}

void DifferenceRows::join_ground(DifferencePart& part, RowSums& sums) const {
  const auto join = [&](std::size_t k, const GroundSums& s) {
    ClassPart& to = part.classes[k + 1];
    to.errors.meet(static_cast<double>(s.lowest), static_cast<double>(s.highest));
    sums.apart[0][k + 1].add(s.sums);
  };
  for (std::size_t i = 0; i < sums.ground[0].size(); ++i)
    for (const auto& turn : sums.ground) {
      if (turn[i].sums.n == 0) continue;
      join(i / kSectors, turn[i]);
      if (i % kSectors != kNoSector) join(classes_.aspects() + i % kSectors, turn[i]);
    }
}

// The class of each cell of a piece, numbered through all kinds. True when all are in one.
bool DifferenceRows::classify(Kind kind, const Row& in, Piece& p) const {
  std::int32_t* k = p.classes.data();
  if (kind == kLevel) {
    land_and_sea(in.a + p.first, p.d.data(), p.n, sea_edge_, static_cast<std::int32_t>(classes_.levels()), k);
  } else {
    ways_of(in.origin + p.first, p.d.data(), p.n, static_cast<std::int32_t>(classes_.ways()), k);
  }
  return are_alike(k, p.n);
}

void DifferenceRows::count_alike(Kind kind, const Piece& p, DifferencePart& part, RowSums& sums) const {
  const std::int32_t k = *std::max_element(p.classes.data(), p.classes.data() + p.n);
  const auto at = static_cast<std::size_t>(k) + 1;
  ErrorGathering& errors = part.classes[at].errors;
  sums.alike[at].add(p.sums);
  errors.meet(static_cast<double>(p.lowest), static_cast<double>(p.highest));
  std::int32_t& only = part.only[kind];
  if (part.classes[0].errors.sketch.count() == 0) only = k;
  if (only == k) return;
  make_sketch(part, only);
  errors.sketch.add_bins(p.bins.data(), p.n, kAllBits - kClassBits);
}

void DifferenceRows::count_apart(Kind kind, const Piece& p, DifferencePart& part, RowSums& sums) const {
  make_sketch(part, part.only[kind]);
  for (std::size_t i = 0; i < static_cast<std::size_t>(p.n); ++i) {
    if (p.classes[i] == kNoClass) continue;
    const std::size_t k = static_cast<std::size_t>(p.classes[i]) + 1;
    const double v = static_cast<double>(p.d[i]), off = v - origin_;
    ErrorGathering& errors = part.classes[k].errors;
    errors.sketch.count_in(p.bins[i] >> (kAllBits - kClassBits));
    if (v < errors.lowest) errors.lowest = v;
    if (v > errors.highest) errors.highest = v;
    ClassSums& s = sums.apart[i % 2][k];
    s.sum += off;
    s.squares += off * off;
    ++s.n;
  }
}

}  // namespace katoptra
