#include "fill_trials.hpp"

#include <algorithm>
#include <bit>
#include <cmath>

#include "katoptra/base/parallel.hpp"

#include "plate.hpp"
#include "rim_tin.hpp"

namespace katoptra {
namespace {

constexpr std::size_t kSamples = 32;          // voids of a size that are tried
constexpr std::int64_t kMostCells = 60'000;   // of a void that is tried
constexpr std::int64_t kMostBox = 4'000'000;  // cells of the box around it
constexpr std::int64_t kFewestHidden = 20;    // hidden cells that say how large errors are
constexpr std::int64_t kFewestToChoose = 8;   // and which way errs less
constexpr double kGrowth = 0.75;              // power of the depth by which errors grow where no trial goes

// Which of the classes of depth: 1, 2 to 3, 4 to 7 ...
std::size_t depth_class(std::uint16_t depth) { return static_cast<std::size_t>(std::bit_width(depth)) - 1; }

// The share of a shape's cells that are known where its box is laid, without reading any.
double known_share(const VoidCells& voids, const std::vector<VoidShape::Cell>& cells, const Window& there) {
  std::vector<std::uint8_t> is_void(static_cast<std::size_t>(there.cols));
  std::int32_t row = -1;
  std::size_t known = 0;
  for (const VoidShape::Cell& c : cells) {
    if (c.row != row) {
      row = c.row;
      std::fill(is_void.begin(), is_void.end(), std::uint8_t{0});
      voids.for_runs(there.row + row, there.col, there.col + there.cols, [&](const VoidRun& run, std::size_t) {
        const std::int64_t first = std::max(run.first, there.col) - there.col,
                           last = std::min(run.last, there.col + there.cols) - there.col;
        std::fill(is_void.begin() + first, is_void.begin() + last, std::uint8_t{1});
      });
    }
    known += is_void[static_cast<std::size_t>(c.col)] == 0;
  }
  return static_cast<double>(known) / static_cast<double>(std::max<std::size_t>(1, cells.size()));
}

bool is_known(const std::vector<float>& z, double share) {
  const auto known = std::count_if(z.begin(), z.end(), [](float v) { return !std::isnan(v); });
  return static_cast<double>(known) >= share * static_cast<double>(z.size());
}

}  // namespace

std::size_t size_class(std::int64_t cells) {
  return (static_cast<std::size_t>(std::bit_width(static_cast<std::uint64_t>(std::max<std::int64_t>(1, cells)))) - 1) /
         2;
}

float window_mean(const Block& b, std::int64_t c, std::int64_t r) {
  double sum = 0;
  int known = 0;
  for (std::int64_t reach = 1; reach <= 3; ++reach) {
    sum = 0;
    known = 0;
    for (std::int64_t j = -reach; j <= reach; ++j)
      for (std::int64_t i = -reach; i <= reach; ++i)
        if (const float z = b.at(c + i, r + j); !std::isnan(z)) {
          sum += static_cast<double>(z);
          ++known;
        }
    if (2 * known >= (2 * reach + 1) * (2 * reach + 1)) break;
  }
  return known > 0 ? static_cast<float>(sum / known) : kVoid;
}

std::vector<float> values_at(const Grid& grid, Window at, const std::vector<VoidShape::Cell>& cells) {
  std::vector<float> out(cells.size());
  constexpr std::int32_t kBand = 256;
  for (std::size_t i = 0; i < cells.size();) {
    std::size_t end = i;
    std::int32_t west = cells[i].col, east = west;
    while (end < cells.size() && cells[end].row < cells[i].row + kBand) {
      west = std::min(west, cells[end].col);
      east = std::max(east, cells[end].col);
      ++end;
    }
    const Window w{at.col + west, at.row + cells[i].row, east - west + 1, cells[end - 1].row - cells[i].row + 1};
    const Block b = grid.read(w);
    for (std::size_t k = i; k < end; ++k) out[k] = b.at(cells[k].col - west, cells[k].row - cells[i].row);
    i = end;
  }
  return out;
}

std::vector<float> closed_by(Treatment way, const VoidShape& shape, const VoidSurrounds& around,
                             const std::vector<std::uint16_t>& depths, double blend) {
  if (way == Treatment::Distance) {
    std::vector<std::array<float, 3>> rim;
    for (std::size_t i = 0; i < shape.rim.size(); ++i)
      if (!std::isnan(around.rim[i]))
        rim.push_back({static_cast<float>(shape.rim[i].col), static_cast<float>(shape.rim[i].row), around.rim[i]});
    const RimField field(std::move(rim), static_cast<float>(shape.aspect));
    std::vector<float> z(shape.cells.size());
    for (std::size_t i = 0; i < z.size(); ++i)
      z[i] = field.at(static_cast<float>(shape.cells[i].col), static_cast<float>(shape.cells[i].row));
    return z;
  }
  if (way == Treatment::Tin) return tin_over(shape, around.rim);
  if (way == Treatment::Smooth) {
    const Plate plate(shape);
    return plate.over(around.rim, around.beyond(plate.outer()));
  }
  const Membrane membrane(shape);
  if (way == Treatment::Membrane) return membrane.over(around.rim);
  // What the second surface lies off the rim by, laid over the void.
  std::vector<float> off(around.rim.size());
  double mean = 0;
  std::int64_t known = 0;
  for (std::size_t i = 0; i < off.size(); ++i) {
    off[i] = around.rim[i] - around.second_rim[i];
    if (std::isnan(off[i])) continue;
    mean += static_cast<double>(off[i]);
    ++known;
  }
  mean /= static_cast<double>(std::max<std::int64_t>(1, known));
  std::vector<float> z = membrane.over(off);
  for (std::size_t i = 0; i < z.size(); ++i) {
    z[i] = bent_onto(around.second_cells[i], static_cast<double>(z[i]), mean, depths[i], blend);
  }
  return z;
}

float bent_onto(float second, double off, double mean, std::uint16_t depth, double blend) {
  if (blend > 0) off = mean + std::max(0.0, 1 - (depth - 1) / blend) * (off - mean);
  return static_cast<float>(static_cast<double>(second) + off);
}

void FillTrials::Sum::add(const Sum& o) {
  squares += o.squares;
  noise += o.noise;
  cells += o.cells;
  voids += o.voids;
}

// A hidden cell was measured with noise n, and is closed from a rim with noise of its own: what was seen is the error
// of the closing, and n less what it has in common with the rim's, so n is taken away once and what is common added
// twice. A tenth is left at least, for noise is only known so well.
double FillTrials::Sum::variance(double common) const {
  // Cells of one void err together: a few voids tell a spread only so well.
  const double few = 1 + 0.7 / static_cast<double>(std::max<std::int64_t>(2, voids));
  return few * std::max(squares + noise * (2 * common - 1), 0.1 * squares) / static_cast<double>(cells);
}

double FillTrials::common_noise(std::uint16_t depth) const {
  if (!reach_) return 1;
  return *reach_ > 0 ? std::exp(-(depth / *reach_) * (depth / *reach_)) : 0;
}

FillTrials::FillTrials(const VoidCells& voids, Setting s) : by_class_(kClasses), voids_in_class_(kClasses, 0) {
  const auto& regions = voids.map().regions;
  if (const auto reach = s.grid.info().error_reach) reach_ = *reach / ground_spacing(s.grid.frame()).y;
  std::vector<std::vector<std::uint32_t>> of_class(kClasses);
  for (std::uint32_t i = 0; i < regions.size(); ++i)
    if (s.counts(i) && regions[i].cells <= kMostCells && regions[i].box.cells() <= kMostBox)
      of_class[size_class(regions[i].cells)].push_back(i);
  std::vector<std::uint32_t> samples;
  for (const auto& list : of_class)
    for (std::size_t k = 0; k < std::min(kSamples, list.size()); ++k)
      samples.push_back(list[k * list.size() / std::min(kSamples, list.size())]);
  std::vector<Sample> results(samples.size());
  RunOptions quiet = s.run;
  quiet.silent = true;
  parallel_for(samples.size(), quiet, [&](std::size_t i) { results[i] = tried(voids, s, samples[i]); });
  for (std::size_t i = 0; i < samples.size(); ++i) {
    if (!results[i].tried) continue;
    const std::size_t size = size_class(regions[samples[i]].cells);
    ++voids_in_class_[size];
    for (std::size_t w = 0; w < kWays; ++w)
      for (std::size_t d = 0; d < kDepths; ++d) {
        by_class_[size][w][d].add(results[i].sums[w][d]);
        all_[w][d].add(results[i].sums[w][d]);
      }
  }
}

// The form is laid beside the void, ever further away, until it lies on known ground.
FillTrials::Sample FillTrials::tried(const VoidCells& voids, const Setting& s, std::uint32_t region) const {
  const Frame& f = s.grid.frame();
  const Window box = voids.map().regions[region].box.grown(1);
  const VoidShape shape = voids.shape_of(region, f.cols(), f.rows(), s.aspect(region));
  Sample out;
  for (int k = 0; k < 24; ++k) {
    const double turn = 2.4 * k + 0.7 * region, away = 1.05 + k / 8.0;
    const Window there{box.col + std::llround(std::cos(turn) * away * static_cast<double>(box.cols + 2)),
                       box.row + std::llround(std::sin(turn) * away * static_cast<double>(box.rows + 2)), box.cols,
                       box.rows};
    if (!f.window().contains(there) || known_share(voids, shape.cells, there) < 0.9 ||
        known_share(voids, shape.rim, there) < 0.95)
      continue;
    const Block block =
        s.grid.read(there.grown(3), s.grid.carries_uncertainty() ? Planes::ValuesAndUncertainty : Planes::Values);
    measure(shape, s, block, there, out);
    out.tried = true;
    return out;
  }
  return out;
}

void FillTrials::measure(const VoidShape& shape, const Setting& s, const Block& block, const Window& there,
                         Sample& out) const {
  const std::vector<std::uint16_t> depths = depths_of(shape);
  VoidSurrounds around;
  for (const VoidShape::Cell& c : shape.rim) around.rim.push_back(block.at(c.col + 3, c.row + 3));
  around.beyond = [&](const std::vector<VoidShape::Cell>& cells) {
    std::vector<float> z;
    for (const VoidShape::Cell& c : cells) z.push_back(block.at(c.col + 3, c.row + 3));
    return z;
  };
  std::vector<Treatment> ways{Treatment::Distance, Treatment::Membrane, Treatment::Smooth, Treatment::Tin};
  if (static_cast<std::int64_t>(shape.cells.size()) <= s.small) ways.push_back(Treatment::Mean);
  if (s.second) {
    around.second_rim = values_at(*s.second, there, shape.rim);
    around.second_cells = values_at(*s.second, there, shape.cells);
    if (is_known(around.second_rim, 1) && is_known(around.second_cells, 1)) ways.push_back(Treatment::Second);
  }
  for (const Treatment way : ways) {
    std::vector<float> z;
    if (way == Treatment::Mean) {
      Block hidden(block.window(), Planes::Values);
      std::copy_n(block.row(0), block.window().cells(), hidden.row(0));
      for (const VoidShape::Cell& c : shape.cells) hidden.row(c.row + 3)[c.col + 3] = kVoid;
      for (const VoidShape::Cell& c : shape.cells) z.push_back(window_mean(hidden, c.col + 3, c.row + 3));
    } else {
      z = closed_by(way, shape, around, depths, s.blend);
    }
    for (std::size_t i = 0; i < z.size(); ++i) {
      const VoidShape::Cell& c = shape.cells[i];
      const double off = static_cast<double>(z[i]) - static_cast<double>(block.at(c.col + 3, c.row + 3));
      if (std::isnan(off)) continue;
      const float* u = block.uncertainty_row(c.row + 3);
      const double noise = u && !std::isnan(u[c.col + 3]) ? static_cast<double>(u[c.col + 3]) : 0;
      out.sums[static_cast<std::size_t>(way)][depth_class(depths[i])].add({off * off, noise * noise, 1, 0});
    }
    for (Sum& sum : out.sums[static_cast<std::size_t>(way)]) sum.voids = sum.cells > 0;
  }
}

FillTrials::Sum FillTrials::of(std::size_t size, Treatment way) const {
  Sum all;
  for (const Sum& s : by_class_[size][static_cast<std::size_t>(way)]) all.add(s);
  return all;
}

std::optional<Treatment> FillTrials::best(std::int64_t cells, const std::vector<Treatment>& ways) const {
  // Where no void of its size could be tried, the next smaller ones speak for it.
  for (std::size_t size = size_class(cells) + 1; size-- > 0;) {
    std::optional<Treatment> best;
    double least = 0;
    for (const Treatment w : ways)
      if (const Sum s = of(size, w);
          s.cells >= kFewestToChoose && (!best || s.squares / static_cast<double>(s.cells) < least)) {
        best = w;
        least = s.squares / static_cast<double>(s.cells);
      }
    if (best) return best;
  }
  return std::nullopt;
}

float FillTrials::error(std::int64_t cells, Treatment way, std::uint16_t depth) const {
  const auto& own = by_class_[size_class(cells)][static_cast<std::size_t>(way)];
  const auto& any = all_[static_cast<std::size_t>(way)];
  for (std::size_t d = depth_class(depth) + 1; d-- > 0;) {
    const Sum* s = own[d].cells >= kFewestHidden ? &own[d] : any[d].cells >= kFewestHidden ? &any[d] : nullptr;
    if (!s) continue;
    const double grown =
        d == depth_class(depth) ? 1 : std::pow(std::ldexp(1.0, static_cast<int>(depth_class(depth) - d)), kGrowth);
    // Hidden cells of level water err by nothing, which says nothing of ground.
    const auto e = static_cast<float>(std::sqrt(s->variance(common_noise(depth))) * grown);
    return e > 0 ? e : kVoid;
  }
  return kVoid;
}

std::vector<FillTrial> FillTrials::told(const std::vector<std::string>& names,
                                        const std::function<bool(std::size_t, Treatment)>& taken) const {
  std::vector<FillTrial> out;
  for (std::size_t size = 0; size < kClasses; ++size)
    for (std::size_t w = 1; w < kWays; ++w)
      if (const Sum s = of(size, static_cast<Treatment>(w)); s.cells > 0)
        out.push_back({std::int64_t{1} << (2 * size), (std::int64_t{1} << (2 * size + 2)) - 1, names[w],
                       voids_in_class_[size], s.cells, std::sqrt(s.squares / static_cast<double>(s.cells)),
                       taken(size, static_cast<Treatment>(w))});
  return out;
}

}  // namespace katoptra
