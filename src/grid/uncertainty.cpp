#include "katoptra/grid/uncertainty.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <string>
#include <utility>
#include <vector>

#include "katoptra/base/error.hpp"
#include "katoptra/geo/crs.hpp"

#include "base/text.hpp"
#include "error_kernel.hpp"
#include "planes.hpp"

namespace katoptra {
namespace {

// ------------------------------------------------------------------------------------------------------------ models

class ModelledSource final : public GridSource {
 public:
  ModelledSource(Grid input, const UncertaintyModel& model)
      : input_(std::move(input)),
        model_(model),
        unit_(metres_per(input_.quantity().unit)),
        ruler_(input_.frame().crs()) {}
  const GridInfo& info() const override { return input_.info(); }
  bool carries_uncertainty() const override { return true; }

  void read(const BlockView& out) const override {
    BlockView plain = out;
    plain.uncertainty = nullptr;
    input_.read_into(plain);
    if (!out.uncertainty) return;
    const Window& w = out.window;
    const auto level = static_cast<float>(model_.times * model_.constant.metres() / unit_);
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) out.uncertainty_row(r)[c] = std::isnan(out.row(r)[c]) ? kVoid : level;
    if (model_.per_depth != 0) deepen(out);
    if (model_.per_slope != 0) steepen(out);
  }
  // Slopes of wider cells are gentler: a picture of the whole shows what the constant says.
  std::shared_ptr<const GridSource> half() const override {
    const auto values = input_.half();
    return values ? std::make_shared<ModelledSource>(*values, model_) : nullptr;
  }

 private:
  void deepen(const BlockView& out) const {
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c) {
        const double depth = -static_cast<double>(out.row(r)[c]);
        float& u = out.uncertainty_row(r)[c];
        if (depth > 0)
          u = static_cast<float>(std::hypot(static_cast<double>(u), model_.times * model_.per_depth * depth));
      }
  }

  // By central differences; from one side at the edge of a void, and level where a cell stands alone.
  void steepen(const BlockView& out) const {
    const Window& w = out.window;
    const Block z = input_.read(w.grown(1));
    const auto rise = [](float before, float here, float after) {
      if (!std::isnan(before) && !std::isnan(after)) return static_cast<double>(after - before) / 2;
      if (!std::isnan(after)) return static_cast<double>(after - here);
      return std::isnan(before) ? 0.0 : static_cast<double>(here - before);
    };
    // The scale of the ground at the middle of each patch of the frame serves all of it.
    constexpr std::int64_t kPatch = 64;
    std::int64_t patch_col = -1, patch_row = -1;
    double run_x = 1, run_y = 1;
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) {
        const float here = z.at(c + 1, r + 1);
        if (std::isnan(here)) continue;
        const std::int64_t pc = (w.col + c) / kPatch, pr = (w.row + r) / kPatch;
        if (pc != patch_col || pr != patch_row) {
          patch_col = pc;
          patch_row = pr;
          const GroundScale scale = ruler_.at(input_.frame().centre(static_cast<double>(pc * kPatch + kPatch / 2),
                                                                    static_cast<double>(pr * kPatch + kPatch / 2)));
          run_x = input_.frame().cell().x * scale.x / unit_;
          run_y = input_.frame().cell().y * scale.y / unit_;
        }
        const double p = rise(z.at(c, r + 1), here, z.at(c + 2, r + 1)) / run_x,
                     q = rise(z.at(c + 1, r), here, z.at(c + 1, r + 2)) / run_y;
        float& u = out.uncertainty_row(r)[c];
        u = rounded_uncertainty(static_cast<double>(u) + model_.times * model_.per_slope / unit_ * std::hypot(p, q));
      }
  }

  Grid input_;
  UncertaintyModel model_;
  double unit_;
  GroundRuler ruler_;
};

// ------------------------------------------------------------------------------------------------------ other planes

// What there is to look at, without its planes.
class Unknown final : public GridSource {
 public:
  explicit Unknown(Grid input) : input_(std::move(input)) {}
  const GridInfo& info() const override { return input_.info(); }
  void read(const BlockView& out) const override { input_.read_into(out); }
  std::shared_ptr<const GridSource> half() const override {
    const auto input = input_.half();
    return input ? std::make_shared<Unknown>(*input) : nullptr;
  }

 private:
  Grid input_;
};

class BesideSource final : public GridSource {
 public:
  BesideSource(Grid values, Grid plane, double factor)
      : values_(std::move(values)), plane_(std::move(plane)), factor_(factor) {}
  const GridInfo& info() const override { return values_.info(); }
  bool carries_uncertainty() const override { return true; }

  void read(const BlockView& out) const override {
    BlockView plain = out;
    plain.uncertainty = nullptr;
    values_.read_into(plain);
    if (!out.uncertainty) return;
    plane_.read_into({out.window, out.uncertainty, nullptr, out.stride});
    const auto factor = static_cast<float>(factor_);
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c) {
        float& u = out.uncertainty_row(r)[c];
        if (std::isnan(u)) continue;
        if (!(u >= 0) || std::isinf(u)) refuse(out.window.col + c, out.window.row + r, u);
        u = std::isnan(out.row(r)[c]) ? kVoid : u * factor;
      }
  }
  std::shared_ptr<const GridSource> half() const override {
    const auto values = values_.half(), plane = plane_.half();
    if (!values) return nullptr;
    if (!plane) return std::make_shared<Unknown>(*values);
    return std::make_shared<BesideSource>(*values, *plane, factor_);
  }

 private:
  [[noreturn]] void refuse(std::int64_t col, std::int64_t row, float u) const {
    throw Error(ErrorCode::BadFile,
                fmt::format("its uncertainty is {:g} at column {}, row {}, and none is {}", u, col, row,
                            u < 0 ? "negative" : "without an end"),
                plane_.info().name, "if that number stands for a void, make it one; else take another file");
  }
  Grid values_, plane_;
  double factor_;
};

class PlaneAlone final : public GridSource {
 public:
  explicit PlaneAlone(Grid input) : input_(std::move(input)), info_(input_.info()) {
    info_.quantity = uncertainty_of(info_.quantity);
    info_.type = SampleType::Float32;
    info_.file_void.reset();
  }
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    // Rows of a view lie as far apart in every plane.
    std::vector<float> values(static_cast<std::size_t>(out.stride * out.window.rows));
    input_.read_into({out.window, values.data(), out.origin, out.stride, out.values});
    for (std::int64_t r = 0; out.origin && r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c)
        if (std::isnan(out.row(r)[c])) out.origin_row(r)[c] = 0;
  }
  std::shared_ptr<const GridSource> half() const override {
    const auto input = input_.half();
    return input && input->carries_uncertainty() ? std::make_shared<PlaneAlone>(*input) : nullptr;
  }

 private:
  Grid input_;
  GridInfo info_;
};

bool holds_lengths(const Quantity& q) {
  return is_length(q.kind) &&
         (q.kind != QuantityKind::Uncertainty || q.other_unit.empty() || q.other_unit == symbol(q.unit));
}

[[noreturn]] void no_uncertainty(std::string_view text, const std::string& why) {
  throw Error(ErrorCode::BadArgument, fmt::format("'{}' {}", text, why), "uncertainty",
              "give a length, such as 0.05m; with slope 0.05m+0.2m*slope; with depth 0.25m+0.0075*depth");
}

std::string_view stripped(std::string_view s) {
  while (!s.empty() && s.front() == ' ') s.remove_prefix(1);
  while (!s.empty() && s.back() == ' ') s.remove_suffix(1);
  return s;
}

// Where the second term begins: at a plus that is no sign of an exponent.
std::size_t second_term(std::string_view text) {
  for (std::size_t i = 1; i < text.size(); ++i)
    if (text[i] == '+' && text[i - 1] != 'e' && text[i - 1] != 'E') return i;
  return std::string_view::npos;
}

}  // namespace

namespace {

// IHO S-44, edition 6: what an order of survey allows, at 95 %. Nothing for a text that names no order.
std::optional<UncertaintyModel> order_of_survey(std::string_view text) {
  struct Order {
    const char* name;
    double a, b;
  };
  static constexpr Order kOrders[] = {
      {"exclusive", 0.15, 0.0075}, {"special", 0.25, 0.0075}, {"1a", 0.5, 0.013}, {"1b", 0.5, 0.013}, {"2", 1, 0.023}};
  const std::string all = lower_case(std::string(stripped(text)));
  const std::size_t space = all.find(' ');
  if (space == all.npos || (all.substr(0, space) != "s44" && all.substr(0, space) != "s-44")) return std::nullopt;
  const std::string_view wanted = stripped(std::string_view(all).substr(space));
  for (const Order& o : kOrders)
    if (wanted == o.name) return UncertaintyModel{Length::metres(o.a), 0, o.b, 1 / kTwoSided95};
  throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no order of S-44", wanted), "uncertainty",
              "use s44 exclusive, s44 special, s44 1a, s44 1b or s44 2");
}

}  // namespace

UncertaintyModel parse_uncertainty(std::string_view text, std::optional<LengthUnit> bare) {
  if (const auto order = order_of_survey(text)) return *order;
  UncertaintyModel m;
  const std::size_t plus = second_term(text);
  const std::string_view first = stripped(text.substr(0, plus));
  try {
    m.constant = Length::parse(first, bare);
    if (plus != std::string_view::npos) {
      const std::string_view term = stripped(text.substr(plus + 1));
      const std::size_t star = term.find('*');
      const std::string_view by = star == term.npos ? "" : stripped(term.substr(star + 1)),
                             amount = stripped(term.substr(0, star));
      if (by == "slope")
        m.per_slope = Length::parse(amount, bare).metres();
      else if (by == "depth")
        m.per_depth = parse_number(amount).value_or(-1);
      else
        no_uncertainty(text, "adds something that is neither * slope nor * depth");
    }
  } catch (const Error& e) {
    if (e.where() == "uncertainty") throw;
    no_uncertainty(text, "is no uncertainty: " + e.problem());
  }
  if (m.constant.metres() < 0 || m.per_slope < 0 || m.per_depth < 0)
    no_uncertainty(text, "is below zero, which no uncertainty is");
  if (m.constant == Length() && m.per_slope == 0 && m.per_depth == 0)
    no_uncertainty(text, "says that there is no error at all");
  return m;
}

Grid with_uncertainty(const Grid& grid, const UncertaintyModel& model) {
  if (!holds_lengths(grid.quantity()))
    throw Error(ErrorCode::BadArgument,
                fmt::format("holds {}, and the uncertainty is a length", name_of(grid.quantity().kind)),
                grid.info().name, "give it to the surface that this was made of");
  if (!(model.constant.metres() >= 0 && model.per_slope >= 0 && model.per_depth >= 0 && model.times > 0))
    throw Error(ErrorCode::BadArgument, "an uncertainty below zero", grid.info().name, "give one above");
  return Grid(std::make_shared<ModelledSource>(grid, model));
}

Grid with_uncertainty(const Grid& grid, const Grid& plane, double times) {
  const auto at = grid.frame().window_of(plane.frame());
  const auto& name = plane.info().name;
  if (!at || !(*at == grid.frame().window()))
    throw Error(ErrorCode::Refused,
                !at ? fmt::format("its cells are not those of {}", grid.info().name)
                : plane.frame().cols() == grid.frame().cols() && plane.frame().rows() == grid.frame().rows()
                    ? fmt::format("it lies elsewhere than {}", grid.info().name)
                    : fmt::format("{} x {} cells of uncertainty for {} x {} of {}", plane.frame().cols(),
                                  plane.frame().rows(), grid.frame().cols(), grid.frame().rows(), grid.info().name),
                name, "bring it there with reproject --onto, or clip both to the same cells");
  double factor = times;
  const Quantity &q = grid.quantity(), &u = plane.quantity();
  if (holds_lengths(q)) {
    const bool length = holds_lengths(u) || u.kind == QuantityKind::Unknown;
    if (!length || (u.kind == QuantityKind::Unknown && !u.other_unit.empty()))
      throw Error(ErrorCode::Refused,
                  fmt::format("holds {} in {}, and the uncertainty of {} is a length", name_of(u.kind),
                              u.other_unit.empty() ? "no unit" : u.other_unit, grid.info().name),
                  name, "give the plane that belongs to it");
    if (u.unit_known && q.unit_known) factor *= metres_per(u.unit) / metres_per(q.unit);
  } else if (unit_name(u) != unit_name(q)) {
    throw Error(
        ErrorCode::Refused,
        fmt::format("is in '{}', and the values of {} are in '{}'", unit_name(u), grid.info().name, unit_name(q)), name,
        "give the plane that belongs to it");
  }
  return Grid(std::make_shared<BesideSource>(grid, plane, factor));
}

Grid uncertainty_of(const Grid& grid) { return Grid(std::make_shared<PlaneAlone>(grid)); }
Grid without_uncertainty(const Grid& grid) {
  return grid.carries_uncertainty() ? Grid(std::make_shared<Unknown>(grid)) : grid;
}
Grid with_error_reach(const Grid& grid, std::optional<Length> reach) {
  if (reach && !(reach->metres() >= 0))
    throw Error(ErrorCode::BadArgument, "errors cannot go together over less than nothing", grid.info().name,
                "give 0m for noise from cell to cell");
  return relabelled(grid, [&](GridInfo& info) { info.error_reach = reach; });
}

std::optional<Length> common_reach(std::span<const Grid> grids) {
  std::optional<Length> reach;
  bool any = false;
  for (const Grid& g : grids) {
    if (!g.carries_uncertainty()) continue;
    if (!g.info().error_reach) return std::nullopt;
    reach = any ? std::max(*reach, *g.info().error_reach) : *g.info().error_reach;
    any = true;
  }
  return reach;
}

}  // namespace katoptra
