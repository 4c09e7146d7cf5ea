#include "katoptra/surface/heights.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/surface/reproject.hpp"

#include "grid/planes.hpp"

namespace katoptra {
namespace {

constexpr std::int64_t kShiftPatch = 32;

void require_height_values(const Grid& grid) {
  if (grid.quantity().kind != QuantityKind::Height)
    throw Error(ErrorCode::BadArgument, fmt::format("holds {}, not heights", name_of(grid.quantity().kind)),
                grid.info().name, "vertical references belong to heights");
}

// What the result says of itself. `done`: for the lineage.
GridInfo moved_info(const Grid& grid, const HeightReference& to, const std::string& done) {
  GridInfo info = grid.info();
  info.quantity.heights = to;
  if (is_integer(info.type)) {
    info.notes.push_back(
        fmt::format("{}: {} heights moved by fractions become float32", info.name, name_of(info.type)));
    info.type = SampleType::Float32;
    info.file_void.reset();
  }
  info.notes.push_back(fmt::format("{}: {}", info.name, done));
  for (SourceRecord& s : info.sources) s.treatment += (s.treatment.empty() ? "" : ", ") + done;
  return info;
}

class HeightsSource final : public GridSource {
 public:
  HeightsSource(Grid input, GridInfo info, VerticalTransform transform)
      : input_(std::move(input)),
        info_(std::move(info)),
        transform_(std::move(transform)),
        per_unit_(1 / metres_per(info_.quantity.unit)) {}
  const GridInfo& info() const override { return info_; }
  bool carries_uncertainty() const override { return input_.carries_uncertainty(); }

  void read(const BlockView& out) const override {
    input_.read_into(out);
    const Window& w = out.window;
    const std::int64_t c0 = w.col / kShiftPatch, c1 = (w.col + w.cols - 1) / kShiftPatch, r0 = w.row / kShiftPatch,
                       r1 = (w.row + w.rows - 1) / kShiftPatch;
    // The corners of the patches, and five points of each to check them by: its middle and the middles of its edges.
    const std::int64_t across = c1 - c0 + 2, down = r1 - r0 + 2;
    const std::vector<double> halves =
        exact(c0 * kShiftPatch, r0 * kShiftPatch, kShiftPatch / 2, 2 * across - 1, 2 * down - 1);
    for (std::int64_t pr = r0; pr <= r1; ++pr)
      for (std::int64_t pc = c0; pc <= c1; ++pc) {
        const Window patch = Window{pc * kShiftPatch, pr * kShiftPatch, kShiftPatch, kShiftPatch}.intersected(w);
        const std::int64_t i = pc - c0, j = pr - r0;
        const auto half = [&](std::int64_t x, std::int64_t y) {
          return halves[static_cast<std::size_t>((2 * j + y) * (2 * across - 1) + 2 * i + x)];
        };
        const double q[4] = {half(0, 0), half(2, 0), half(0, 2), half(2, 2)};
        const double off[5] = {half(1, 1) - (q[0] + q[1] + q[2] + q[3]) / 4, half(1, 0) - (q[0] + q[1]) / 2,
                               half(1, 2) - (q[2] + q[3]) / 2, half(0, 1) - (q[0] + q[2]) / 2,
                               half(2, 1) - (q[1] + q[3]) / 2};
        const bool smooth = std::all_of(off, off + 5, [](double d) { return std::abs(d) <= kShiftTolerance; });
        add(out.part(patch), smooth ? interpolated(patch, q) : exact(patch.col, patch.row, 1, patch.cols, patch.rows));
      }
    if (const auto accuracy = transform_.accuracy()) add_variance(out, accuracy->metres() * per_unit_);
    void_where_value_is(out);
  }

 private:
  std::vector<double> exact(std::int64_t col, std::int64_t row, std::int64_t step, std::int64_t across,
                            std::int64_t down) const {
    std::vector<Point> at(static_cast<std::size_t>(across * down));
    for (std::int64_t r = 0; r < down; ++r)
      for (std::int64_t c = 0; c < across; ++c)
        at[static_cast<std::size_t>(r * across + c)] =
            info_.frame.centre(static_cast<double>(col + c * step), static_cast<double>(row + r * step));
    std::vector<double> shift(at.size());
    transform_.shifts(at, shift);
    return shift;
  }
  static std::vector<double> interpolated(const Window& patch, const double* q) {
    std::vector<double> out(static_cast<std::size_t>(patch.cells()));
    for (std::int64_t r = 0; r < patch.rows; ++r)
      for (std::int64_t c = 0; c < patch.cols; ++c) {
        const double x = static_cast<double>((patch.col + c) % kShiftPatch) / kShiftPatch,
                     y = static_cast<double>((patch.row + r) % kShiftPatch) / kShiftPatch;
        out[static_cast<std::size_t>(r * patch.cols + c)] =
            (q[0] * (1 - x) + q[1] * x) * (1 - y) + (q[2] * (1 - x) + q[3] * x) * y;
      }
    return out;
  }
  void add(const BlockView& to, const std::vector<double>& shift) const {
    for (std::int64_t r = 0; r < to.window.rows; ++r)
      for (std::int64_t c = 0; c < to.window.cols; ++c)
        to.row(r)[c] = static_cast<float>(static_cast<double>(to.row(r)[c]) +
                                          shift[static_cast<std::size_t>(r * to.window.cols + c)] * per_unit_);
  }

  Grid input_;
  GridInfo info_;
  VerticalTransform transform_;
  double per_unit_;
};

class SumSource final : public GridSource {
 public:
  SumSource(Grid a, Grid b, double factor, GridInfo info)
      : a_(std::move(a)), b_(std::move(b)), factor_(factor), info_(std::move(info)) {}
  const GridInfo& info() const override { return info_; }
  bool carries_uncertainty() const override { return a_.carries_uncertainty(); }
  void read(const BlockView& out) const override {
    a_.read_into(out);
    const Block b = b_.read(out.window, planes_with(false, out.uncertainty && b_.carries_uncertainty()));
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c) {
        out.row(r)[c] =
            static_cast<float>(static_cast<double>(out.row(r)[c]) + static_cast<double>(b.at(c, r)) * factor_);
        // Of a separation that states no error nothing is added.
        if (const float* more = b.uncertainty_row(r)) {
          float& u = out.uncertainty_row(r)[c];
          u = static_cast<float>(std::hypot(static_cast<double>(u), static_cast<double>(more[c]) * factor_));
        }
      }
    void_where_value_is(out);
  }

 private:
  Grid a_, b_;
  double factor_;
  GridInfo info_;
};

}  // namespace

Grid to_heights(const Grid& grid, const HeightReference& to) {
  require_height_values(grid);
  const HeightReference from = grid.quantity().heights;
  if (from == to) return grid;
  try {
    VerticalTransform transform(grid.frame().crs(), from, to, grid.frame().bounds());
    GridInfo info = moved_info(grid, to, fmt::format("{} to {} ({})", from.name(), to.name(), transform.description()));
    if (grid.carries_uncertainty() && !transform.accuracy())
      info.notes.push_back(fmt::format(
          "{}: how far the step from {} to {} may be off is not stated, so its uncertainty has nothing of it",
          info.name, from.name(), to.name()));
    return Grid(std::make_shared<HeightsSource>(grid, std::move(info), std::move(transform)));
  } catch (const Error& e) {
    throw e.within(grid.info().name);
  }
}

Grid shifted_heights(const Grid& grid, Length by, const HeightReference& to) {
  require_height_values(grid);
  const LengthUnit unit = grid.quantity().unit;
  const double amount = by.in(unit);
  return scaled(grid, 1, amount, [&](GridInfo& info) {
    const SampleType type = info.type;
    const std::string done = fmt::format("{:+g} {} everywhere", amount, symbol(unit));
    info = moved_info(grid, to, done);
    // A whole number of units keeps integers.
    if (is_integer(type)) {
      info.type = type;
      info.file_void = grid.info().file_void;
      std::erase_if(info.notes, [](const std::string& n) { return n.ends_with("become float32"); });
    }
  });
}

Grid shifted_heights(const Grid& grid, const Grid& separation, const HeightReference& to) {
  require_height_values(grid);
  if (!grid.frame().crs() || !separation.frame().crs())
    throw Error(ErrorCode::Refused, "has no coordinate reference system, so the separation cannot be laid over it",
                !grid.frame().crs() ? grid.info().name : separation.info().name, "give it one with --crs");
  const Grid here = reproject(separation, grid.frame(), Resampling::Bilinear);
  const double factor = metres_per(separation.quantity().unit) / metres_per(grid.quantity().unit);
  GridInfo info = moved_info(grid, to, fmt::format("separation {} added", separation.info().name));
  return Grid(std::make_shared<SumSource>(grid, here, factor, std::move(info)));
}

HeightShift parse_height_shift(const std::string& text, LengthUnit unit,
                               const std::function<Grid(const std::string&)>& open) {
  HeightShift shift;
  if (text.empty()) return shift;
  // A length is a number with its unit and nothing else; "2019_sep.tif" and "./sep.asc" begin like numbers.
  try {
    shift.by = Length::parse(text, unit);
  } catch (const Error& no_length) {
    const bool number = text.find_first_not_of("+-.0123456789eE ") == text.npos;
    const bool named = text.find_first_of("./\\:") != text.npos &&
                       text.find_first_of("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ") != text.npos;
    if (number || !named) throw;
    shift.separation = open(text);
  }
  return shift;
}

Grid brought_to(const Grid& grid, const HeightReference& to, const HeightShift& shift) {
  const HeightReference& target = to.known() ? to : grid.quantity().heights;
  if (shift.by) return shifted_heights(grid, *shift.by, target);
  if (shift.separation) return shifted_heights(grid, *shift.separation, target);
  return target.known() ? to_heights(grid, target) : grid;
}

}  // namespace katoptra
