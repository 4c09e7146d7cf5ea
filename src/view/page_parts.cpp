#include "page_parts.hpp"

#include <algorithm>
#include <bit>
#include <cmath>
#include <fmt/format.h>
#include <numbers>

#include "katoptra/grid/quantity.hpp"
#include "katoptra/view/image.hpp"

#include "base/base64.hpp"
#include "base/png_bands.hpp"
#include "land.hpp"
#include "plane_bytes.hpp"

namespace katoptra {

using nlohmann::ordered_json;

namespace {

// Of the numbers in the page: as fine as anything they are compared with, and no finer than they are.
double step_for(const Grid& grid, const std::vector<float>& values, int steps) {
  const Quantity& q = grid.quantity();
  if (is_integer(grid.info().type) || is_coded(q.kind)) return 1;
  float most = 0;
  for (const float v : values)
    if (std::abs(v) > most) most = std::abs(v);
  const bool length = q.kind == QuantityKind::Height || q.kind == QuantityKind::Difference ||
                      q.kind == QuantityKind::Uncertainty || q.kind == QuantityKind::Roughness ||
                      q.kind == QuantityKind::Ruggedness || q.kind == QuantityKind::Position;
  // A millimetre: a two hundred and fiftieth of a foot is more, a five hundredth less.
  double step = length ? (q.unit == LengthUnit::Metre ? 0.001 : 0.002)
                       : std::pow(10, std::floor(std::log10(std::max(1e-30F, most) / static_cast<float>(steps))));
  constexpr double kMostSteps = 1 << 30;
  while (static_cast<double>(most) / step >= kMostSteps) step *= 10;
  return step;
}

// Longitudes that go on counting across the antimeridian, so that one can be told between two. False where that cannot
// be: around a pole, and where a node lies nowhere.
bool told_in_one_turn(std::vector<Point>& nodes) {
  constexpr double kMostBetween = 20;
  for (std::size_t i = 0; i < nodes.size(); ++i) {
    if (!std::isfinite(nodes[i].x) || !std::isfinite(nodes[i].y)) return false;
    for (const std::size_t before : {i - 1, i - kPageNodes}) {
      const bool there = before == i - 1 ? i % kPageNodes > 0 : i >= kPageNodes;
      if (!there) continue;
      if (before == i - 1 || i % kPageNodes == 0) nodes[i].x -= 360 * std::round((nodes[i].x - nodes[before].x) / 360);
      if (std::abs(nodes[i].x - nodes[before].x) > kMostBetween) return false;
    }
  }
  return true;
}

template <class At>
std::string half_ramp(const At& at, double from, double to) {
  constexpr int kColours = 128;
  std::string out;
  for (int i = 0; i < kColours; ++i) out += hex_of(at(from + (to - from) * (i + 0.5) / kColours));
  return out;
}

template <class At>
ordered_json two_ramps(const At& at, double low, double middle, double high, bool powers) {
  return {{"low", low},
          {"middle", middle},
          {"high", high},
          {"powers", powers},
          {"below", half_ramp(at, low, middle)},
          {"above", half_ramp(at, middle, high)}};
}

std::vector<std::uint8_t> png_of(const PlacedImage& image) {
  std::vector<std::uint8_t> out;
  PngBands png(image.frame.cols(), image.frame.rows(), 4,
               [&](std::span<const std::uint8_t> bytes) { out.insert(out.end(), bytes.begin(), bytes.end()); });
  for (std::int64_t r = 0; r < image.frame.rows(); r += image.band) {
    const Pixels rows = image.rows(r, std::min(image.frame.rows(), r + image.band));
    png.add(png.packed(rows));
  }
  png.finish();
  return out;
}

}  // namespace

std::string png_address(const Frame& frame, const Pixels& pixels) {
  const auto cols = static_cast<std::size_t>(frame.cols());
  const auto png = png_of({.frame = frame, .name = {}, .rows = [&](std::int64_t first, std::int64_t end) {
                             const auto* at = pixels.data() + 4 * cols * static_cast<std::size_t>(first);
                             return Pixels(at, at + 4 * cols * static_cast<std::size_t>(end - first));
                           }});
  return "data:image/png;base64," + base64(png);
}

ordered_json picture_for_page(const Grid& grid, const LandLook& look, const RunOptions& run) {
  const Frame& f = grid.frame();
  const auto png = png_of(draw_image(grid, {.land = look, .run = run}));
  return {{"box", {f.west(), f.south(), f.east(), f.north()}}, {"png", "data:image/png;base64," + base64(png)}};
}

std::string hex_of(Colour c) {
  const auto byte = [](double v) { return static_cast<int>(std::lround(255 * std::clamp(v, 0.0, 1.0))); };
  return fmt::format("{:02x}{:02x}{:02x}", byte(c.red), byte(c.green), byte(c.blue));
}

ordered_json frame_for_page(const Frame& frame) {
  ordered_json j = {{"crs", frame.crs() ? frame.crs().label() : ""},
                    {"crs_name", frame.crs() ? frame.crs().name() : ""},
                    {"degrees", frame.crs() && frame.crs().is_geographic()},
                    {"unit", frame.crs() ? frame.crs().unit_name() : ""},
                    {"west", frame.west()},
                    {"north", frame.north()},
                    {"cell", {frame.cell().x, frame.cell().y}},
                    {"cols", frame.cols()},
                    {"rows", frame.rows()},
                    {"nodes", kPageNodes}};
  std::vector<Point> nodes;
  for (int r = 0; r < kPageNodes; ++r)
    for (int c = 0; c < kPageNodes; ++c)
      nodes.push_back({frame.west() + frame.bounds().width() * c / (kPageNodes - 1),
                       frame.north() - frame.bounds().height() * r / (kPageNodes - 1)});
  std::vector<GroundScale> scales(nodes.size(), GroundScale{});
  if (frame.crs()) GroundRuler(frame.crs()).at(nodes, scales);
  // A corner may lie where the projection does not reach; nothing is measured there.
  const GroundSpacing middle = frame.crs() ? ground_spacing(frame) : GroundSpacing{};
  ordered_json sx = ordered_json::array(), sy = sx, lon = sx, lat = sx;
  for (const GroundScale& s : scales) {
    sx.push_back(std::isfinite(s.x) ? s.x * frame.cell().x : middle.x.metres());
    sy.push_back(std::isfinite(s.y) ? s.y * frame.cell().y : middle.y.metres());
  }
  j["ground"] = {{"x", sx}, {"y", sy}};
  if (!frame.crs()) return j;
  Transform(frame.crs(), Crs::wgs84()).forward(nodes);
  if (!told_in_one_turn(nodes)) return j;
  for (const Point& p : nodes) {
    lon.push_back(std::round(p.x * 1e9) / 1e9);
    lat.push_back(std::round(p.y * 1e9) / 1e9);
  }
  j["globe"] = {{"lon", lon}, {"lat", lat}};
  return j;
}

ordered_json colours_for_page(const Quantity& quantity, const std::vector<float>& values, const LandLook& look) {
  const LandColours colours(quantity, values, look);
  if (const auto classes = classes_of(quantity.kind); !classes.empty()) {
    ordered_json list = ordered_json::array();
    for (std::size_t i = 0; i < classes.size(); ++i)
      list.push_back(
          {{"code", i + 1}, {"name", classes[i]}, {"colour", hex_of(colours.at(static_cast<float>(i + 1), 0))}});
    return {{"classes", list}};
  }
  const bool grey = quantity.kind == QuantityKind::Shade;
  const double low = grey ? 0 : colours.palette().lowest(), high = grey ? 255 : colours.palette().highest(),
               middle = std::clamp(look.shore.value_or(0), low, high);
  const bool powers = colours.magnitudes();
  return {{"ramp", two_ramps([&](double v) { return colours.at(static_cast<float>(powers ? std::pow(10, v) : v), 0); },
                             low, middle, high, powers)}};
}

ordered_json ramp_for_page(const Palette& palette, double middle) {
  return two_ramps([&](double v) { return palette.at(v); }, palette.lowest(), middle, palette.highest(), false);
}

ordered_json plane_for_page(PageData& page, const std::string& id, const Grid& cells, const std::vector<float>& values,
                            int steps, const RunOptions& run) {
  const Frame& f = cells.frame();
  const double step = step_for(cells, values, steps);
  const PlaneBytes packed = plane_bytes(values, f.cols(), f.rows(), step, run);
  page.bytes(id, packed.bytes);
  ordered_json j = {{"id", id},
                    {"cols", f.cols()},
                    {"rows", f.rows()},
                    {"tile", kPageTile},
                    {"step", step},
                    {"kind", name_of(cells.quantity().kind)},
                    {"unit", unit_name(cells.quantity())},
                    {"lengths", packed.lengths},
                    {"bytes", packed.bytes.size()}};
  return j;
}

Shown shown_by(const Grid& grid, std::int64_t most, Cells kind) {
  Shown s{.grid = grid};
  const auto cells = [&] { return s.grid.frame().cols() * s.grid.frame().rows(); };
  while (cells() > most) {
    const auto half = s.grid.half();
    if (!half) break;
    s.grid = *half;
    s.times *= 2;
    s.overview = true;
  }
  if (cells() <= most) return s;
  auto by = static_cast<std::int64_t>(std::ceil(std::sqrt(static_cast<double>(cells()) / static_cast<double>(most))));
  if (kind == Cells::PowersOfTwo) by = static_cast<std::int64_t>(std::bit_ceil(static_cast<std::uint64_t>(by)));
  s.grid = coarser(s.grid, by);
  s.times *= static_cast<double>(by);
  return s;
}

}  // namespace katoptra
