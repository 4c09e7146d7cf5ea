// Points as they are seen from above or as a slice through them. Each pixel keeps the point nearest to the eye; a
// point is a disc, wider where points lie further apart. The only light is depth: a pixel that lies behind its
// neighbours is darker, which draws edges without any normals. Two readings: one for the range of the colours, one to
// draw.
#include "katoptra/view/points.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>

#include "katoptra/base/error.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/points/select.hpp"

#include "axes.hpp"
#include "point_colours.hpp"

namespace katoptra {

Colour class_colour(int c) {
  switch (c) {
    case 0:
    case 1:
      return from_oklch(0.66, 0.0, 0);
    case 2:
      return from_oklch(0.80, 0.055, 85);
    case 3:
      return from_oklch(0.76, 0.10, 160);
    case 4:
      return from_oklch(0.65, 0.11, 165);
    case 5:
      return from_oklch(0.52, 0.09, 170);
    case 6:
      return from_oklch(0.55, 0.13, 330);
    case 7:
      return from_oklch(0.60, 0.20, 15);
    case 9:
      return from_oklch(0.62, 0.10, 250);
    case 14:
      return from_oklch(0.80, 0.15, 70);
    case 17:
      return from_oklch(0.60, 0.08, 300);
    case 18:
      return from_oklch(0.70, 0.19, 5);
    default:
      return from_oklch(0.65, 0.11, std::fmod(40 + 137.5 * c, 360));
  }
}

namespace {

// Of so many points the range of the colours is taken.
constexpr std::uint64_t kSampled = 400'000;
// How far a neighbour must stand out, in pixels of depth, to darken by about a half.
constexpr double kEdgeReach = 6;

PointFields field_of(PointColouring c) {
  switch (c) {
    case PointColouring::Class:
      return PointFields::Class;
    case PointColouring::Intensity:
      return PointFields::Intensity;
    case PointColouring::Return:
      return PointFields::Return;
    case PointColouring::Time:
      return PointFields::Time;
    case PointColouring::Colour:
      return PointFields::Colour;
    case PointColouring::Line:
      return PointFields::Source;
    default:
      return PointFields::None;
  }
}

constexpr std::pair<const char*, PointColouring> kColourings[] = {
    {"height", PointColouring::Height}, {"class", PointColouring::Class}, {"intensity", PointColouring::Intensity},
    {"return", PointColouring::Return}, {"time", PointColouring::Time},   {"colour", PointColouring::Colour},
    {"line", PointColouring::Line}};

Colour kind_colour(int k) { return from_oklch(0.66, 0.13, std::fmod(30 + 137.5 * k, 360)); }

// What a point is coloured by, as one number; packed red, green, blue for colours.
class PointColours {
 public:
  PointColours(const PointCloud& cloud, PointColouring by, const RunOptions& run) : by_(by) {
    const PointInfo& info = cloud.info();
    if (!has(info.fields, field_of(by)))
      throw Error(ErrorCode::BadArgument, "its points have nothing to be coloured by that", info.name,
                  "colour by height");
    std::vector<double> values;
    const std::uint64_t every = std::max<std::uint64_t>(1, info.count / kSampled);
    std::uint64_t n = 0;
    RunOptions quiet = run;
    quiet.silent = true;
    for_each_batch(cloud, field_of(by), quiet, [&](const PointBatch& b) {
      for (std::size_t i = 0; i < b.size(); ++i) {
        if (is_kind()) ++kinds_[static_cast<int>(value(b, i))];
        if (n++ % every == 0) values.push_back(value(b, i));
      }
    });
    points = n;
    if (values.empty()) return;
    // The outermost hundredths do not decide the range: one bird would.
    auto at = [&](double share) {
      const auto k = values.begin() + static_cast<std::ptrdiff_t>(share * static_cast<double>(values.size() - 1));
      std::nth_element(values.begin(), k, values.end());
      return *k;
    };
    low_ = at(0.01);
    high_ = std::max(at(0.99), low_ + 1e-9);
    if (by == PointColouring::Colour) eight_bits_ = at(0.999) < 256.0 * 65536 * 65536;
    palette_ = by == PointColouring::Height ? Palette::land_and_sea(low_, high_) : Palette::plain(low_, high_);
  }
  bool is_kind() const {
    return by_ == PointColouring::Class || by_ == PointColouring::Return || by_ == PointColouring::Line;
  }
  double value(const PointBatch& b, std::size_t i) const {
    switch (by_) {
      case PointColouring::Class:
        return b.classification[i];
      case PointColouring::Intensity:
        return b.intensity[i];
      case PointColouring::Return:
        return b.return_number[i];
      case PointColouring::Time:
        return b.time[i];
      case PointColouring::Line:
        return b.source[i];
      case PointColouring::Colour:
        return b.red[i] * 65536.0 * 65536.0 + b.green[i] * 65536.0 + b.blue[i];
      default:
        return b.z[i];
    }
  }
  Colour at(double v) const {
    if (by_ == PointColouring::Class) return class_colour(static_cast<int>(v));
    if (is_kind()) return kind_colour(static_cast<int>(v));
    if (by_ == PointColouring::Colour) {
      const double red = std::floor(v / 65536 / 65536), green = std::floor(std::fmod(v, 65536.0 * 65536) / 65536),
                   blue = std::fmod(v, 65536.0);
      const double full = eight_bits_ ? 255 : 65535;
      return {std::min(red / full, 1.0), std::min(green / full, 1.0), std::min(blue / full, 1.0)};
    }
    return palette_.at(std::clamp(v, low_, high_));
  }
  const std::map<int, std::uint64_t>& kinds() const { return kinds_; }
  double low() const { return low_; }
  double high() const { return high_; }
  std::uint64_t points = 0;

 private:
  PointColouring by_;
  std::map<int, std::uint64_t> kinds_;
  double low_ = 0, high_ = 1;
  bool eight_bits_ = false;
  Palette palette_ = Palette::plain(0, 1);
};

// How places lie on the picture: to the right, up, and towards the eye, all in pixels.
struct View {
  bool slice = false;
  Point from;
  double ux = 1, uy = 0;                         // along the line, in the CRS
  double x0 = 0, x1 = 1, y0 = 0, y1 = 1;         // the field's range: CRS, or distance and height
  double scale_x = 1, scale_y = 1, scale_z = 1;  // pixels a unit
  double ground_x = 1, ground_y = 1;             // metres a unit of the CRS

  bool project(double x, double y, double z, double& px, double& py, double& depth) const {
    if (!slice) {
      px = (x - x0) * scale_x;
      py = (y1 - y) * scale_y;
      depth = z * scale_z;
      return true;
    }
    const double dx = (x - from.x) * ground_x, dy = (y - from.y) * ground_y;
    px = (dx * ux + dy * uy - x0) * scale_x;
    py = (y1 - z) * scale_y;
    depth = (dx * uy - dy * ux) * scale_x;  // the eye is to the right of the line
    return true;
  }
};

class Raster {
 public:
  Raster(int w, int h)
      : w_(w),
        h_(h),
        depth_(static_cast<std::size_t>(w) * static_cast<std::size_t>(h), kNone),
        value_(depth_.size(), 0) {}
  struct Hit {
    std::uint32_t at;
    float depth;
    double value;
  };
  void put(const Hit& hit) {
    if (hit.depth <= depth_[hit.at]) return;
    depth_[hit.at] = hit.depth;
    value_[hit.at] = hit.value;
  }
  int width() const { return w_; }
  int height() const { return h_; }
  bool any(int x, int y) const { return depth_[index(x, y)] != kNone; }
  std::uint32_t index(int x, int y) const { return static_cast<std::uint32_t>(y * w_ + x); }
  double value(int x, int y) const { return value_[index(x, y)]; }
  // 1 for a point as near to the eye as its neighbours, less the further it lies behind them.
  double light(int x, int y, double strength) const {
    double behind = 0;
    int n = 0;
    const float own = depth_[index(x, y)];
    for (int r : {1, 2})
      for (const auto& [dx, dy] : {std::pair{-1, 0}, {1, 0}, {0, -1}, {0, 1}, {-1, -1}, {1, 1}, {-1, 1}, {1, -1}}) {
        const int i = x + r * dx, k = y + r * dy;
        if (i < 0 || k < 0 || i >= w_ || k >= h_) continue;
        const float other = depth_[index(i, k)];
        ++n;
        if (other != kNone) behind += std::clamp<double>(other - own, 0, 8 * kEdgeReach);
      }
    return n ? std::exp(-strength * behind / (n * kEdgeReach) * 0.9) : 1;
  }

 private:
  static constexpr float kNone = -std::numeric_limits<float>::infinity();
  int w_, h_;
  std::vector<float> depth_;
  std::vector<double> value_;
};

void fill(Raster& raster, const PointCloud& cloud, const View& view, const PointColours& colours, PointColouring by,
          int radius, const RunOptions& run) {
  map_points(
      cloud, field_of(by), run,
      [&](std::size_t, PointBatch& b) -> std::shared_ptr<void> {
        auto hits = std::make_shared<std::vector<Raster::Hit>>();
        for (std::size_t i = 0; i < b.size(); ++i) {
          double px = 0, py = 0, depth = 0;
          if (!view.project(b.x[i], b.y[i], b.z[i], px, py, depth)) continue;
          const int cx = static_cast<int>(std::floor(px)), cy = static_cast<int>(std::floor(py));
          const double v = colours.value(b, i);
          for (int dy = -radius; dy <= radius; ++dy)
            for (int dx = -radius; dx <= radius; ++dx) {
              const int x = cx + dx, y = cy + dy;
              if (dx * dx + dy * dy > radius * radius + radius || x < 0 || y < 0 || x >= raster.width() ||
                  y >= raster.height())
                continue;
              hits->push_back({raster.index(x, y), static_cast<float>(depth), v});
            }
        }
        return hits;
      },
      [&](std::shared_ptr<void> r) {
        for (const Raster::Hit& h : *static_cast<const std::vector<Raster::Hit>*>(r.get())) raster.put(h);
      });
}

void paint(Canvas& c, const Raster& raster, const PointColours& colours, const Plot& p, double shading) {
  cairo_surface_t* image = cairo_image_surface_create(CAIRO_FORMAT_RGB24, raster.width(), raster.height());
  cairo_surface_flush(image);
  unsigned char* bytes = cairo_image_surface_get_data(image);
  const int stride = cairo_image_surface_get_stride(image);
  const Colour empty{0.965, 0.968, 0.972};
  for (int y = 0; y < raster.height(); ++y)
    for (int x = 0; x < raster.width(); ++x) {
      Colour k = empty;
      if (raster.any(x, y)) {
        k = colours.at(raster.value(x, y));
        if (shading > 0) k = shaded(k, 0.25 + 0.75 * raster.light(x, y, shading));
      }
      unsigned char* to = bytes + y * stride + 4 * x;
      to[0] = static_cast<unsigned char>(std::lround(255 * std::clamp(k.blue, 0.0, 1.0)));
      to[1] = static_cast<unsigned char>(std::lround(255 * std::clamp(k.green, 0.0, 1.0)));
      to[2] = static_cast<unsigned char>(std::lround(255 * std::clamp(k.red, 0.0, 1.0)));
    }
  cairo_surface_mark_dirty(image);
  cairo_set_source_surface(c.cr(), image, p.left, p.top);
  cairo_paint(c.cr());
  cairo_surface_destroy(image);
}

std::string kind_name(PointColouring by, int k) {
  if (by == PointColouring::Class) return fmt::format("{} {}", k, class_name(k));
  return fmt::format("{} {}", by == PointColouring::Line ? "line" : "return", k);
}

// What the colours mean, to the right of the field.
void legend(Canvas& c, const PointColours& colours, PointColouring by, const PointInfo& info, double left, double top,
            double height) {
  if (by == PointColouring::Colour) return;
  if (colours.is_kind()) {
    double y = top + 8;
    for (const auto& [k, n] : colours.kinds()) {
      if (y > top + height - 20) break;
      c.colour(colours.at(k));
      c.box(left, y, 18, 18);
      cairo_fill(c.cr());
      c.colour(kInk);
      c.text(left + 26, y + 15, kind_name(by, k), 15);
      c.colour(kQuiet);
      c.text(left + 26, y + 32, fmt::format("{} points", n), 12);
      y += 46;
    }
    return;
  }
  const double bar = std::min(height - 60, 420.0);
  for (int i = 0; i < static_cast<int>(bar); ++i) {
    c.colour(colours.at(colours.high() - (colours.high() - colours.low()) * i / bar));
    c.box(left, top + 30 + i, 22, 1.5);
    cairo_fill(c.cr());
  }
  c.colour(kInk);
  const std::string name = by == PointColouring::Height ? fmt::format("height ({})", symbol(info.quantity.unit))
                           : by == PointColouring::Time ? "time (s)"
                                                        : "intensity";
  c.text(left, top + 14, name, 15, Align::Left, true);
  const double step = axis_step(colours.high() - colours.low(), 6);
  for (double v = std::ceil(colours.low() / step) * step; v <= colours.high(); v += step)
    c.text(left + 30, top + 30 + (colours.high() - v) / (colours.high() - colours.low()) * bar + 5, axis_label(v, step),
           14);
}

View view_from_above(const PointInfo& info, Plot& p, int& height, double width) {
  View v;
  const GroundScale scale = info.crs ? GroundRuler(info.crs).at(info.bounds.centre()) : GroundScale{};
  const double w = std::max(info.bounds.width() * scale.x, 1e-6), h = std::max(info.bounds.height() * scale.y, 1e-6);
  p.width = width;
  const double per = p.width / w;
  p.height = std::clamp(h * per, 120.0, 6000.0);
  height = static_cast<int>(p.top + p.height + 84);
  v.x0 = info.bounds.west;
  v.x1 = info.bounds.east;
  v.y0 = info.bounds.south;
  v.y1 = info.bounds.north;
  v.scale_x = p.width / std::max(info.bounds.width(), 1e-12);
  v.scale_y = p.height / std::max(info.bounds.height(), 1e-12);
  v.scale_z = per * metres_per(info.quantity.unit);
  return v;
}

// The points of a slice, and how they lie along it.
std::pair<PointCloud, View> view_of_slice(const PointCloud& cloud, const PointSlice& s, const RunOptions& run,
                                          Plot& p) {
  const PointInfo& info = cloud.info();
  View v;
  v.slice = true;
  const GroundScale scale =
      info.crs ? GroundRuler(info.crs).at({(s.from.x + s.to.x) / 2, (s.from.y + s.to.y) / 2}) : GroundScale{};
  v.ground_x = scale.x;
  v.ground_y = scale.y;
  v.from = s.from;
  const double dx = (s.to.x - s.from.x) * scale.x, dy = (s.to.y - s.from.y) * scale.y, length = std::hypot(dx, dy);
  if (!(length > 0) || !(s.depth > Length()))
    throw Error(ErrorCode::BadArgument, "a slice needs a line and a depth", info.name,
                "give two places and a depth such as 2m");
  v.ux = dx / length;
  v.uy = dy / length;
  const double half = s.depth.metres() / 2;
  auto corner = [&](const Point& at, double side) {
    return Point{at.x + side * half * v.uy / scale.x, at.y - side * half * v.ux / scale.y};
  };
  const Ring ring{corner(s.from, 1), corner(s.to, 1), corner(s.to, -1), corner(s.from, -1), corner(s.from, 1)};
  const Area area({Polygon{ring, {}}}, info.crs ? info.crs : Crs::parse("EPSG:32725"));
  PointCloud inside = info.crs ? select(cloud, {.area = &area, .drop_noise = true}) : cloud;
  double low = std::numeric_limits<double>::infinity(), high = -low;
  RunOptions quiet = run;
  quiet.silent = true;
  for_each_batch(inside, PointFields::None, quiet, [&](const PointBatch& b) {
    for (double z : b.z) {
      low = std::min(low, z);
      high = std::max(high, z);
    }
  });
  if (!(low <= high))
    throw Error(ErrorCode::BadArgument, "no points lie in the slice", info.name, "check its line, or make it deeper");
  const double room = std::max(0.05 * (high - low), 0.5);
  v.x0 = 0;
  v.x1 = length;
  v.y0 = low - room;
  v.y1 = high + room;
  // One scale for both axes where the points then fill a third of the field; else heights are stretched, and said so.
  const double unit = metres_per(info.quantity.unit), per_x = p.width / length;
  double per_y = per_x * unit;
  if ((v.y1 - v.y0) * per_y > p.height || (v.y1 - v.y0) * per_y < p.height / 3) per_y = p.height / (v.y1 - v.y0);
  const double spare = p.height / per_y - (v.y1 - v.y0);
  v.y1 += spare / 2;
  v.y0 -= spare / 2;
  v.scale_x = per_x;
  v.scale_y = per_y;
  return {inside, v};
}

}  // namespace

PointColouring parse_point_colouring(std::string_view text) {
  for (const auto& [name, c] : kColourings)
    if (text == name) return c;
  throw Error(ErrorCode::BadArgument, fmt::format("points are not coloured by '{}'", text), {},
              "choose from height, class, intensity, return, time, colour, line");
}

Picture draw_points(const PointCloud& cloud, const PointPictureOptions& o) {
  const PointInfo& info = cloud.info();
  const int width = std::clamp(o.width, 640, 8000);
  int height = std::clamp(o.height, 400, 8000);
  Plot p{.left = 118,
         .top = 92,
         .width = width - 118.0 - 210,
         .height = height - 92.0 - 84,
         .x0 = 0,
         .x1 = 1,
         .y0 = 0,
         .y1 = 1};
  PointCloud shown = cloud;
  View view;
  if (o.slice) {
    std::tie(shown, view) = view_of_slice(cloud, *o.slice, o.run, p);
  } else {
    if (info.bounds.empty())
      throw Error(ErrorCode::BadArgument, "there are no points to draw", info.name, "check the selection");
    view = view_from_above(info, p, height, p.width);
  }
  const PointColours colours(shown, o.colour_by, o.run);
  if (colours.points == 0)
    throw Error(ErrorCode::BadArgument, "there are no points to draw", info.name, "check the selection");
  Raster raster(static_cast<int>(p.width), static_cast<int>(p.height));
  const double pixels = p.width * p.height / static_cast<double>(std::max<std::uint64_t>(colours.points, 1));
  const int radius = o.slice ? std::clamp(static_cast<int>(std::sqrt(pixels) * 0.1), 1, 3)
                             : std::clamp(static_cast<int>(std::lround(std::sqrt(pixels) * 0.75)), 0, 8);
  fill(raster, shown, view, colours, o.colour_by, radius, o.run);
  Canvas c(o.format, width, height);
  p.x0 = view.x0;
  p.x1 = view.x1;
  p.y0 = view.y0;
  p.y1 = view.y1;
  const std::string unit = info.crs ? info.crs.unit_name() : "";
  const std::string heights = fmt::format("height ({}{})", symbol(info.quantity.unit),
                                          info.quantity.heights.known() ? ", " + info.quantity.heights.name() : "");
  draw_axes(c, p, o.slice ? "distance along the line (m)" : fmt::format("east ({})", unit),
            o.slice ? heights : fmt::format("north ({})", unit));
  paint(c, raster, colours, p, o.shading);
  c.colour(kInk);
  c.text(p.left, 40, o.title.empty() ? info.name : o.title, 25, Align::Left, true);
  std::string facts = fmt::format("{} points, coloured by {}", colours.points,
                                  kColourings[static_cast<std::size_t>(o.colour_by)].first);
  if (o.slice) {
    const double stretch = view.scale_y / (view.scale_x * metres_per(info.quantity.unit));
    facts += fmt::format("; a slab {:g} m deep", o.slice->depth.metres());
    facts += std::abs(stretch - 1) < 0.01 ? "; one scale for both axes"
                                          : fmt::format("; heights stretched {:.1f} times", stretch);
  }
  c.colour(kQuiet);
  c.text(p.left, 68, facts, 17);
  legend(c, colours, o.colour_by, info, p.left + p.width + 22, p.top, p.height);
  return c.finish();
}

}  // namespace katoptra
