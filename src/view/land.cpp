// The land is read at pixel size: the mean of cells where they are finer than pixels, bilinear where they are coarser.
// Colours go by what the values are (Colouring of the quantity); shading changes their lightness alone, in a space
// where equal steps look equal, so a hill's colour stays the colour of its height.
#include "land.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <iterator>
#include <limits>
#include <memory>
#include <numbers>
#include <span>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/surface/reproject.hpp"
#include "katoptra/terrain/derivatives.hpp"
#include "katoptra/terrain/sight.hpp"

namespace katoptra {
namespace {

// What a hillshade gives level ground.
const double kLevelLight = 1 + 254 * std::sin(std::numbers::pi / 4);

// For differences, the range that 99 of 100 pixels keep, the same on both sides of zero.
double difference_reach(const std::vector<float>& pixels) {
  std::vector<float> sizes;
  for (float v : pixels)
    if (!std::isnan(v)) sizes.push_back(std::abs(v));
  if (sizes.empty()) return 1;
  const auto at = sizes.begin() + static_cast<std::ptrdiff_t>(static_cast<double>(sizes.size() - 1) * 0.99);
  std::nth_element(sizes.begin(), at, sizes.end());
  return static_cast<double>(*at);
}

// The range that colours are spread over: all of it for heights; for others up to where only two in a thousand pixels
// lie beyond, so that one steep cell does not pale the rest.
std::pair<double, double> colour_range(const std::vector<float>& pixels, bool whole) {
  float low = std::numeric_limits<float>::infinity(), high = -low;
  for (const float v : pixels) {
    low = v < low ? v : low;
    high = v > high ? v : high;
  }
  if (low > high) return {0, 0};
  const auto lowest = static_cast<double>(low), highest = static_cast<double>(high);
  if (whole) return {lowest, highest};
  std::vector<float> known;
  std::copy_if(pixels.begin(), pixels.end(), std::back_inserter(known), [](float v) { return !std::isnan(v); });
  const auto beyond = static_cast<std::ptrdiff_t>(static_cast<double>(known.size()) * 0.998);
  std::nth_element(known.begin(), known.begin() + std::min<std::ptrdiff_t>(beyond, std::ssize(known) - 1), known.end());
  const auto most = static_cast<double>(known[std::min(static_cast<std::size_t>(beyond), known.size() - 1)]);
  return {lowest, most > lowest ? most : highest};
}

Palette ramp_of(QuantityKind kind, double low, double high, double reach, double shore) {
  switch (colouring_of(kind)) {
    case Colouring::LandAndSea:
      return Palette::land_and_sea(low, high, shore);
    case Colouring::Grey:
      return kind == QuantityKind::Shade ? Palette::grey(0, 255) : Palette::grey(low, high);
    case Colouring::Classes:
      return Palette::classes(kind);
    case Colouring::Directions:
      return Palette::directions();
    case Colouring::AroundZero:
      return Palette::around_zero(reach);
    case Colouring::Magnitudes:
    case Colouring::Plain:
      break;
  }
  return Palette::plain(low, high);
}

Palette palette_over(QuantityKind kind, std::vector<float> values, double shore) {
  if (colouring_of(kind) == Colouring::Magnitudes)
    for (float& v : values) v = v > 0 ? std::log10(v) : kVoid;
  const auto [low, high] = colour_range(values, kind == QuantityKind::Height);
  return ramp_of(kind, low, high, colouring_of(kind) == Colouring::AroundZero ? difference_reach(values) : 0, shore);
}

// Of the values themselves, also where colours go by powers.
Palette plain_over(QuantityKind kind, const std::vector<float>& values, double shore) {
  const auto [low, high] = colour_range(values, true);
  return ramp_of(kind, low, high, std::max(std::abs(low), std::abs(high)), shore);
}

// Means of `by` times `by` cells from the upper left corner; at the far edges of what is there. What the kernels of
// reproject weigh exactly, a picture need not.
class Coarser final : public GridSource {
 public:
  Coarser(Grid input, std::int64_t by) : input_(std::move(input)), by_(by), info_(input_.info()) {
    const Frame& f = input_.frame();
    info_.frame = Frame(f.crs(), f.west(), f.north(),
                        {f.cell().x * static_cast<double>(by), f.cell().y * static_cast<double>(by)},
                        (f.cols() + by - 1) / by, (f.rows() + by - 1) / by);
  }
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    // In strips: of a large factor the cells below a block are many.
    const Window& w = out.window;
    const std::int64_t high = std::max<std::int64_t>(1, kMostBelow / (w.cols * by_ * by_));
    for (std::int64_t r = 0; r < w.rows; r += high) {
      const Window strip{w.col, w.row + r, w.cols, std::min(high, w.rows - r)};
      read_strip(out.part(strip));
    }
  }

 private:
  static constexpr std::int64_t kMostBelow = std::int64_t{1} << 22;

  void read_strip(const BlockView& out) const {
    const Window& w = out.window;
    const Block b = input_.read({w.col * by_, w.row * by_, w.cols * by_, w.rows * by_});
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) {
        float sum = 0;
        int n = 0;
        for (std::int64_t y = r * by_; y < (r + 1) * by_; ++y) {
          const float* row = b.row(y) + c * by_;
          for (std::int64_t x = 0; x < by_; ++x)
            if (!std::isnan(row[x])) {
              sum += row[x];
              ++n;
            }
        }
        out.row(r)[c] = n > 0 ? sum / static_cast<float>(n) : kVoid;
      }
  }

  Grid input_;
  std::int64_t by_;
  GridInfo info_;
};

// The share of the sky as a light. Little of it is hidden even in a valley: what is counts twice.
class SkyLight final : public GridSource {
 public:
  explicit SkyLight(Grid open) : open_(std::move(open)) {}
  const GridInfo& info() const override { return open_.info(); }
  void read(const BlockView& out) const override {
    open_.read_into(out);
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (float& v : std::span(out.row(r), static_cast<std::size_t>(out.window.cols)))
        if (!std::isnan(v)) v = std::max(1.0F, static_cast<float>(kLevelLight) * (2 * v - 1));
  }

 private:
  Grid open_;
};

}  // namespace

Frame pixel_frame(const Frame& f, double width) {
  const GroundSpacing s = ground_spacing(f);
  const double ground_x = s.x.metres() / f.cell().x, ground_y = s.y.metres() / f.cell().y;  // metres per unit
  const double cell_x = f.bounds().width() / width, cell_y = cell_x * ground_x / ground_y;
  const double rows = std::clamp(f.bounds().height() / cell_y, 1.0, 16000.0);
  return {f.crs(),
          f.west(),
          f.north(),
          {cell_x, f.bounds().height() / std::ceil(rows)},
          std::llround(width),
          static_cast<std::int64_t>(std::ceil(rows))};
}

namespace {

// Along the side where they are fewer.
double cells_a_pixel(const Frame& grid, const Frame& pixels) {
  if (!grid.crs() || !pixels.crs() || grid.crs().same_place(pixels.crs()))
    return std::min(pixels.cell().x / grid.cell().x, pixels.cell().y / grid.cell().y);
  const GroundSpacing a = ground_spacing(grid), b = ground_spacing(pixels);
  return std::min(b.x.metres(), b.y.metres()) / std::max(a.x.metres(), a.y.metres());
}

}  // namespace

Grid coarser(const Grid& grid, std::int64_t by) { return Grid(std::make_shared<Coarser>(grid, by)); }

Grid at_pixels(const Grid& given, const Frame& to) {
  Grid grid = given;
  const Resampling method = resolved(Resampling::Automatic, grid, to);
  if (method == Resampling::Mean) {
    // What a file has at about that size already need not be made again.
    double times = cells_a_pixel(grid.frame(), to);
    for (auto half = grid.half(); half && times >= 2; half = grid.half(), times /= 2) grid = *half;
    if (const auto by = static_cast<std::int64_t>(std::floor(times)); by >= 2 && by <= 4096)
      return reproject(coarser(grid, by), to, Resampling::Bilinear);
    if (times < 2) return reproject(grid, to, Resampling::Bilinear);
  }
  return reproject(grid, to, method == Resampling::Cubic ? Resampling::Bilinear : method);
}

Grid somewhere(const Grid& grid) {
  if (grid.frame().crs()) return grid;
  return relabelled(
      grid, [](GridInfo& i) { i.frame = i.frame.with_crs(Crs::parse("+proj=utm +zone=31 +datum=WGS84 +type=crs")); });
}

LandColours::LandColours(const Quantity& quantity, const std::vector<float>& values, const LandLook& look)
    : kind_(quantity.kind),
      own_(look.ramp || look.classes),
      palette_(look.ramp      ? *look.ramp
               : look.classes ? plain_over(quantity.kind, values, look.shore.value_or(0))
                              : palette_over(quantity.kind, values, look.shore.value_or(0))),
      middle_(look.shore.value_or(0)) {
  if (look.shore && colouring_of(kind_) != Colouring::LandAndSea)
    throw Error(ErrorCode::Refused, fmt::format("its values are {}, which have no shore", name_of(kind_)), "map",
                "leave the shore out");
  if (!own_) return;
  if (!classes_of(kind_).empty() || kind_ == QuantityKind::Shade)
    throw Error(ErrorCode::Refused, fmt::format("its values are {}, which have colours of their own", name_of(kind_)),
                "map", "leave the ramp and the classes out");
  if (look.classes)
    palette_ = Palette::stepped(palette_, class_breaks(*look.classes, {values.begin(), values.end()}), middle_);
}

Colour LandColours::at(float value, float light) const {
  // A shade is the grey it is.
  if (kind_ == QuantityKind::Shade && !own_) {
    const double grey = std::clamp(static_cast<double>(value) / 255, 0.0, 1.0);
    return {grey, grey, grey};
  }
  const double v = magnitudes() ? std::log10(static_cast<double>(value)) : static_cast<double>(value);
  return palette_.at(v, light > 0 ? 0.55 + 0.45 * static_cast<double>(light) / kLevelLight : 1);
}

void LandColours::prepare(bool lit) {
  lights_ = lit ? 256 : 1;
  low_ = palette_.lowest();
  high_ = palette_.highest();
  if (kind_ == QuantityKind::Shade) {
    low_ = 0;
    high_ = 255;
  }
  table_.resize(static_cast<std::size_t>(2 * kSteps * lights_));
  for (int side = 0; side < 2; ++side)
    for (int i = 0; i < kSteps; ++i) {
      const double from = side == 0 ? low_ : std::max(middle_, low_), to = side == 0 ? std::min(middle_, high_) : high_;
      const double v = from + (to - from) * (i + 0.5) / kSteps;
      const float value = static_cast<float>(magnitudes() ? std::pow(10, v) : v);
      for (int light = 0; light < lights_; ++light) {
        const Colour c = at(value, static_cast<float>(light));
        const double parts[] = {c.red, c.green, c.blue};
        for (std::size_t j = 0; j < 3; ++j)
          table_[static_cast<std::size_t>((side * kSteps + i) * lights_ + light)][j] =
              static_cast<std::uint8_t>(std::lround(255 * parts[j]));
      }
    }
}

const std::array<std::uint8_t, 3>& LandColours::bytes(float value, float light) const {
  const double v = magnitudes() ? std::log10(std::max(1e-30, static_cast<double>(value))) : static_cast<double>(value);
  const bool above = v >= middle_;
  const double from = above ? std::max(middle_, low_) : low_, to = above ? high_ : std::min(middle_, high_);
  const double share = to > from ? (v - from) / (to - from) * kSteps : 0;
  const int i = static_cast<int>(std::clamp(share, 0.0, kSteps - 1.0));
  const int l = static_cast<int>(std::clamp(std::nearbyint(light), 0.0F, static_cast<float>(lights_ - 1)));
  return table_[static_cast<std::size_t>(((above ? kSteps : 0) + i) * lights_ + l)];
}

std::vector<float> values_of(const Grid& grid, const RunOptions& run) {
  std::vector<float> out;
  out.reserve(static_cast<std::size_t>(grid.frame().cols() * grid.frame().rows()));
  for_each_band(grid, Planes::Values, run,
                [&](const Block& b) { out.insert(out.end(), b.row(0), b.row(0) + b.window().cells()); });
  return out;
}

std::vector<float> sample_of(const Grid& grid, const RunOptions& run) {
  constexpr double kWide = 1200;
  const Frame& f = grid.frame();
  return values_of(static_cast<double>(f.cols()) > kWide ? at_pixels(grid, pixel_frame(f, kWide)) : grid, run);
}

bool is_lit(const LandLook& look, const Quantity& quantity) {
  return look.light != MapLight::None && quantity.kind == QuantityKind::Height;
}

Grid light_over(const Grid& pixels, const LandLook& look) {
  if (look.light != MapLight::Sky) return hillshade(pixels, {.exaggeration = look.exaggeration});
  return Grid(std::make_shared<SkyLight>(sky_view(pixels, {.exaggeration = look.exaggeration})));
}

Frame finer(const Frame& f, int times) {
  return {f.crs(), f.west(), f.north(), {f.cell().x / times, f.cell().y / times}, f.cols() * times, f.rows() * times};
}

RasterColours::RasterColours(const std::vector<MapOverlay>& overlays, const RunOptions& run) {
  for (const MapOverlay& o : overlays) {
    if (!o.raster || o.raster->grids.size() != 1 || o.raster->light_only) continue;
    const Grid& g = o.raster->grids[0];
    LandColours colours(g.quantity(), sample_of(g, run), o.raster->look);
    colours.prepare(is_lit(o.raster->look, g.quantity()));
    known_.emplace(&o, std::move(colours));
  }
}

const LandColours* RasterColours::of(const MapOverlay& o) const {
  const auto known = known_.find(&o);
  return known == known_.end() ? nullptr : &known->second;
}

RasterPixels::RasterPixels(const std::vector<MapOverlay>& overlays, const RasterColours& colours, const Frame& pixels,
                           bool lost)
    : frame_(pixels) {
  for (const MapOverlay& o : overlays) {
    if (!o.raster || o.raster->grids.empty() || (lost && o.raster->grids[0].frame().crs())) continue;
    Placed p{.raster = &*o.raster, .colours = colours.of(o), .parts = {}, .light = {}};
    for (const Grid& g : o.raster->grids) p.parts.push_back(at_pixels(lost ? somewhere(g) : g, pixels));
    if (p.parts.size() == 1 && is_lit(o.raster->look, p.parts[0].quantity()))
      p.light = light_over(p.parts[0], o.raster->look);
    placed_.emplace(&o, std::move(p));
  }
}

// Of values, or of light; of a picture's parts.
void RasterPixels::fill(const Placed& p, const Window& inside, std::uint8_t* rgba) {
  const auto n = static_cast<std::size_t>(inside.cells());
  if (p.parts.size() > 1) {
    std::fill_n(rgba, 4 * n, std::uint8_t{255});
    for (std::size_t j = 0; j < std::min<std::size_t>(4, p.parts.size()); ++j) {
      const Block b = p.parts[j].read(inside);
      for (std::size_t i = 0; i < n; ++i) {
        const float v = b.row(0)[i];
        if (std::isnan(v))
          rgba[4 * i + 3] = 0;
        else if (j < 3 || rgba[4 * i + 3] > 0)
          rgba[4 * i + j] = static_cast<std::uint8_t>(std::lround(std::clamp(v, 0.0F, 255.0F)));
      }
    }
    return;
  }
  const Block b = p.parts[0].read(inside);
  std::optional<Block> light;
  if (p.light) light = p.light->read(inside);
  for (std::size_t i = 0; i < n; ++i) {
    const float v = b.row(0)[i], l = light ? light->row(0)[i] : 0;
    if (std::isnan(v)) continue;
    const auto grey = static_cast<std::uint8_t>(std::lround(std::clamp(l, 0.0F, 255.0F)));
    for (std::size_t j = 0; j < 3; ++j) rgba[4 * i + j] = p.raster->light_only ? grey : p.colours->bytes(v, l)[j];
    rgba[4 * i + 3] = 255;
  }
}

Pixels RasterPixels::read(const MapOverlay& o, const Window& inside) const {
  constexpr std::int64_t kStrip = 256;
  const auto placed = placed_.find(&o);
  if (placed == placed_.end()) return {};
  Pixels out(static_cast<std::size_t>(inside.cells()) * 4);
  parallel_within(static_cast<std::size_t>((inside.rows + kStrip - 1) / kStrip), [&](std::size_t strip) {
    const std::int64_t first = static_cast<std::int64_t>(strip) * kStrip;
    const Window part{inside.col, inside.row + first, inside.cols, std::min(kStrip, inside.rows - first)};
    fill(placed->second, part, out.data() + first * inside.cols * 4);
  });
  return out;
}

Pixels coloured(const Grid& grid, const Frame& pixels, const LandLook& look, const RunOptions& run) {
  std::vector<MapOverlay> one(1);
  one[0].raster = MapRaster{.grids = {grid}, .look = look};
  return RasterPixels(one, RasterColours(one, run), pixels, false).read(one[0], pixels.window());
}

}  // namespace katoptra
