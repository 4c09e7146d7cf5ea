#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <utility>
#include <vector>

#include "katoptra/base/error.hpp"
#include "katoptra/grid/uncertainty.hpp"

#include "axes.hpp"
#include "canvas.hpp"

namespace katoptra {
namespace {

// Calls body(first, last) for each run of points with values.
template <class Body>
void each_run(const std::vector<SectionPoint>& points, const Body& body) {
  for (std::size_t i = 0; i < points.size();) {
    if (std::isnan(points[i].value)) {
      ++i;
      continue;
    }
    std::size_t end = i;
    while (end < points.size() && !std::isnan(points[end].value)) ++end;
    body(i, end);
    i = end;
  }
}

// The ground below its line; with a `shore`, water over it up to zero.
void draw_ground(Canvas& c, const Plot& p, const std::vector<SectionPoint>& points, bool shore) {
  const Colour fill = from_oklch(0.80, 0.05, 110), sea = from_oklch(0.55, 0.11, 240);
  each_run(points, [&](std::size_t first, std::size_t last) {
    if (shore) {
      // Water stands over the ground up to zero.
      cairo_move_to(c.cr(), p.x(points[first].distance), p.y(0));
      for (std::size_t i = first; i < last; ++i)
        cairo_line_to(c.cr(), p.x(points[i].distance), p.y(std::min(0.0, points[i].value)));
      cairo_line_to(c.cr(), p.x(points[last - 1].distance), p.y(0));
      c.colour(from_oklch(0.86, 0.05, 230), 0.85);
      cairo_fill(c.cr());
    }
    cairo_move_to(c.cr(), p.x(points[first].distance), p.top + p.height);
    for (std::size_t i = first; i < last; ++i) cairo_line_to(c.cr(), p.x(points[i].distance), p.y(points[i].value));
    cairo_line_to(c.cr(), p.x(points[last - 1].distance), p.top + p.height);
    c.colour(fill, 0.75);
    cairo_fill(c.cr());
  });
  if (shore) {
    c.colour(sea);
    c.line_width(1.4);
    c.dashes({8, 5});
    c.line(p.left, p.y(0), p.left + p.width, p.y(0));
    c.dashes({});
  }
}

// Of each surface: the ground's, then apart in hue and in lightness, so that a grey print tells them, too.
Colour line_colour(std::size_t i) {
  constexpr double kHues[] = {35, 265, 350, 95, 200, 310, 150};
  if (i == 0) return from_oklch(0.45, 0.07, 140);
  return from_oklch(i % 2 ? 0.42 : 0.58, 0.16, kHues[(i - 1) % std::size(kHues)]);
}
constexpr double kCutHue = 35, kFillHue = 225;

struct Range {
  double low = 1e300, high = -1e300;
  void add(double v) {
    if (std::isnan(v)) return;
    low = std::min(low, v);
    high = std::max(high, v);
  }
};
Range range_of(const Profiles& all) {
  Range r;
  for (const NamedSection& s : all.surfaces)
    for (const SectionPoint& p : s.section.points) r.add(p.value);
  if (r.low > r.high) r.low = r.high = 0;
  return r;
}

// With where 95 of 100 are.
Range drawn_range_of(const Profiles& all) {
  Range r = range_of(all);
  for (const NamedSection& s : all.surfaces)
    for (const SectionPoint& p : s.section.points)
      for (const double side : {-kTwoSided95, kTwoSided95}) r.add(p.value + side * p.uncertainty);
  return r;
}

// What one surface has more than the other, where both are known.
void draw_between(Canvas& c, const Plot& p, const std::vector<SectionPoint>& a, const std::vector<SectionPoint>& b) {
  for (std::size_t i = 1; i < a.size(); ++i) {
    const double u = b[i - 1].value - a[i - 1].value, v = b[i].value - a[i].value;
    if (std::isnan(u + v)) continue;
    // Where they cross, the part is two triangles.
    const double t = (u < 0) != (v < 0) && u != v ? u / (u - v) : -1;
    const double x0 = p.x(a[i - 1].distance), x1 = p.x(a[i].distance);
    auto piece = [&](bool fill, std::initializer_list<Point> corners) {
      bool first = true;
      for (const Point q : corners) {
        (first ? cairo_move_to : cairo_line_to)(c.cr(), q.x, q.y);
        first = false;
      }
      c.colour(from_oklch(0.72, 0.11, fill ? kFillHue : kCutHue), 0.75);
      cairo_fill(c.cr());
    };
    // Pieces stand side by side: soft edges would show between them.
    cairo_set_antialias(c.cr(), CAIRO_ANTIALIAS_NONE);
    const Point a0{x0, p.y(a[i - 1].value)}, a1{x1, p.y(a[i].value)}, b0{x0, p.y(b[i - 1].value)},
        b1{x1, p.y(b[i].value)};
    if (t <= 0 || t >= 1) {
      piece(u + v > 0, {a0, a1, b1, b0});
    } else {
      const Point m{x0 + t * (x1 - x0), p.y(a[i - 1].value + t * (a[i].value - a[i - 1].value))};
      piece(u > 0, {a0, m, b0});
      piece(v > 0, {m, a1, b1});
    }
  }
  cairo_set_antialias(c.cr(), CAIRO_ANTIALIAS_DEFAULT);
}

void draw_line(Canvas& c, const Plot& p, const std::vector<SectionPoint>& points, Colour colour) {
  each_run(points, [&](std::size_t first, std::size_t last) {
    cairo_new_path(c.cr());
    for (std::size_t i = first; i < last; ++i) cairo_line_to(c.cr(), p.x(points[i].distance), p.y(points[i].value));
    c.colour(colour);
    c.line_width(2.2);
    cairo_set_line_join(c.cr(), CAIRO_LINE_JOIN_ROUND);
    cairo_stroke(c.cr());
  });
}

// Where 95 of 100 heights are, by what is stated of them.
void draw_sureness(Canvas& c, const Plot& p, const std::vector<SectionPoint>& points, Colour colour) {
  each_run(points, [&](std::size_t first, std::size_t last) {
    for (std::size_t i = first; i < last;) {
      std::size_t end = i;
      while (end < last && !std::isnan(points[end].uncertainty)) ++end;
      cairo_new_path(c.cr());
      for (std::size_t k = i; k < end; ++k)
        cairo_line_to(c.cr(), p.x(points[k].distance), p.y(points[k].value + kTwoSided95 * points[k].uncertainty));
      for (std::size_t k = end; k-- > i;)
        cairo_line_to(c.cr(), p.x(points[k].distance), p.y(points[k].value - kTwoSided95 * points[k].uncertainty));
      c.colour(colour, 0.3);
      cairo_fill(c.cr());
      i = std::max(end, i + 1);
    }
  });
}
bool is_sure(const Section& s) {
  return std::any_of(s.points.begin(), s.points.end(),
                     [](const SectionPoint& q) { return !std::isnan(q.uncertainty); });
}

// Lowest, mean and highest of a corridor: a band with a line in it.
void draw_corridor(Canvas& c, const Plot& p, const Profiles& all) {
  const auto &low = all.surfaces.front().section.points, &high = all.surfaces.back().section.points;
  each_run(low, [&](std::size_t first, std::size_t last) {
    cairo_new_path(c.cr());
    for (std::size_t i = first; i < last; ++i) cairo_line_to(c.cr(), p.x(low[i].distance), p.y(low[i].value));
    for (std::size_t i = last; i-- > first;) cairo_line_to(c.cr(), p.x(high[i].distance), p.y(high[i].value));
    cairo_close_path(c.cr());
    c.colour(from_oklch(0.80, 0.05, 110), 0.9);
    cairo_fill_preserve(c.cr());
    c.colour(from_oklch(0.62, 0.06, 120));
    c.line_width(1);
    cairo_stroke(c.cr());
  });
  draw_line(c, p, all.surfaces[1].section.points, from_oklch(0.40, 0.08, 140));
}

void draw_marks(Canvas& c, const Plot& p, const std::vector<LineMark>& marks) {
  double free_from = -1e9;
  for (const LineMark& m : marks) {
    const double x = p.x(m.distance);
    c.colour(kQuiet);
    c.line_width(1.1);
    c.dashes({3, 3});
    c.line(x, p.top + 6, x, p.top + p.height);
    c.dashes({});
    // Names stand upright beside their line, unless they would stand in one another.
    if (m.name.empty() || x < free_from) continue;
    free_from = x + 19;
    c.colour(kInk);
    c.text_upright(x - 5, p.top + 12 + c.text_width(m.name, 15) / 2, m.name, 15);
  }
}

struct Legend {
  Colour colour;
  std::string name;
  bool area = false;
};
void draw_legend(Canvas& c, const Plot& p, const Profiles& all) {
  if (all.surfaces.size() < 2) return;
  std::vector<Legend> rows;
  if (all.corridor) {
    rows = {{from_oklch(0.80, 0.05, 110), "lowest to highest", true}, {from_oklch(0.40, 0.08, 140), "mean"}};
  } else {
    for (std::size_t i = 0; i < all.surfaces.size(); ++i) rows.push_back({line_colour(i), all.surfaces[i].name});
    rows.push_back({from_oklch(0.72, 0.11, kCutHue), "cut", true});
    rows.push_back({from_oklch(0.72, 0.11, kFillHue), "fill", true});
  }
  double x = p.left + p.width;
  for (std::size_t i = rows.size(); i-- > 0;) {
    x -= c.text_width(rows[i].name, 16) + 4;
    c.colour(kInk);
    c.text(x, p.top - 14, rows[i].name, 16);
    c.colour(rows[i].colour);
    if (rows[i].area) {
      c.box(x - 32, p.top - 27, 24, 14);
      cairo_fill(c.cr());
    } else {
      c.line_width(3);
      c.line(x - 32, p.top - 20, x - 8, p.top - 20);
    }
    x -= 50;
  }
}

// How many times heights are drawn larger than lengths.
double exaggeration_of(const Plot& p, const Section& s) {
  const double vertical = p.height / ((p.y1 - p.y0) * metres_per(s.quantity.unit)),
               horizontal = p.width / ((p.x1 - p.x0) * metres_per(s.unit));
  return vertical / horizontal;
}

// The field is made lower or narrower until heights are drawn just so much larger.
void hold_exaggeration(Plot& p, const Section& s, double wanted) {
  if (!(wanted > 0)) return;
  const double now = exaggeration_of(p, s);
  if (now > wanted) {  // more room above than needed
    const double range = (p.y1 - p.y0) * now / wanted, middle = (p.y0 + p.y1) / 2;
    p.y0 = middle - range / 2;
    p.y1 = middle + range / 2;
  } else {
    p.width *= now / wanted;
  }
}

std::string section_facts(const Profiles& all, const Plot& p, Range r, bool by_time) {
  const Section& s = all.surfaces[0].section;
  std::string facts = fmt::format("{} {} long", axis_label(s.points.back().distance, 0.1), symbol(s.unit));
  facts += fmt::format(", from {} to {} {}", axis_label(r.low, 0.01), axis_label(r.high, 0.01), unit_name(s.quantity));
  if (by_time)
    facts += fmt::format("; {} min", axis_label((s.points.back().time - s.points.front().time) / 60, 0.1));
  else if (s.quantity.kind == QuantityKind::Height)
    facts += fmt::format("; vertical exaggeration {:.1f} times", exaggeration_of(p, s));
  if (all.surfaces.size() > 1 && !all.corridor && s.quantity.kind == QuantityKind::Height) {
    const CutFill cf = cut_and_fill(s, all.surfaces[1].section);
    facts += fmt::format("; cut {} {u}², fill {} {u}²", axis_label(cf.cut, 0.1), axis_label(cf.fill, 0.1),
                         fmt::arg("u", symbol(s.unit)));
  }
  const auto voids =
      std::count_if(s.points.begin(), s.points.end(), [](const SectionPoint& q) { return std::isnan(q.value); });
  if (std::any_of(all.surfaces.begin(), all.surfaces.end(), [](const NamedSection& n) { return is_sure(n.section); }) &&
      !all.corridor)
    facts += "; the band holds 95 %";
  if (voids > 0) facts += fmt::format("; {} of {} points are void", voids, s.points.size());
  return facts;
}

void require_points(const Profiles& all) {
  if (all.surfaces.empty() || all.surfaces[0].section.points.size() < 2 || (all.corridor && all.surfaces.size() != 3))
    throw Error(ErrorCode::BadArgument, "a section without points cannot be drawn", "section");
}

std::pair<double, double> with_room(Range r) {
  const double room = std::max({(r.high - r.low) * 0.08, std::abs(r.high) * 1e-6, 0.05});
  return {r.low - room, r.high + room};
}

// Something of the points of a section at a place along it, between two of them: that of the nearest beyond its ends.
template <class Of>
double along(const std::vector<SectionPoint>& points, double distance, const Of& of) {
  const auto after = std::upper_bound(points.begin(), points.end(), distance,
                                      [](double d, const SectionPoint& p) { return d < p.distance; });
  if (after == points.begin()) return of(points.front());
  if (after == points.end()) return of(points.back());
  const SectionPoint &a = *(after - 1), &b = *after;
  const double t = (distance - a.distance) / (b.distance - a.distance);
  return t == 0 ? of(a) : of(a) + t * (of(b) - of(a));
}

// Minutes since the beginning instead of distances; marks keep their places.
Profiles by_time(Profiles all) {
  const std::vector<SectionPoint> points = all.surfaces[0].section.points;
  const auto minutes = [&](double time) { return (time - points.front().time) / 60; };
  for (LineMark& m : all.marks)
    m.distance = minutes(along(points, m.distance, [](const SectionPoint& p) { return p.time; }));
  for (NamedSection& s : all.surfaces)
    for (std::size_t i = 0; i < points.size(); ++i) s.section.points[i].distance = minutes(points[i].time);
  return all;
}

void require_times(const Profiles& all) {
  const auto& points = all.surfaces[0].section.points;
  for (std::size_t i = 0; i < points.size(); ++i)
    if (std::isnan(points[i].time) || (i > 0 && points[i].time < points[i - 1].time))
      throw Error(ErrorCode::BadArgument, "the line has no times that go on", "section",
                  "give a track with times, or draw it by distance");
  if (!(points.back().time > points.front().time))
    throw Error(ErrorCode::BadArgument, "the track takes no time", "section", "draw it by distance");
}

// Rows below the axis: the station, then the height of each surface there, upright.
constexpr double kStationRow = 66, kStationText = 14;
void draw_stations(Canvas& c, const Plot& p, const Profiles& all, double step) {
  const Section& s = all.surfaces[0].section;
  const double top = p.top + p.height + 78, end = s.points.back().distance;
  std::vector<std::string> heads{"station"};
  for (const NamedSection& n : all.surfaces)
    heads.push_back(n.name.empty() || all.surfaces.size() == 1 ? "height" : n.name);
  const double bottom = top + kStationRow * static_cast<double>(heads.size());
  for (std::size_t row = 0; row <= heads.size(); ++row) {
    const double y = top + kStationRow * static_cast<double>(row);
    c.colour(kQuiet);
    c.line_width(1);
    c.line(20, y, p.left + p.width, y);
    if (row == heads.size()) break;
    c.colour(kInk);
    // The first number of a row is upright at the axis.
    const double room = p.left - 20 - 20;
    c.text(24, y + kStationRow / 2 + 5, heads[row],
           std::min(15.0, 15 * room / std::max(1.0, c.text_width(heads[row], 15))));
  }
  for (double k = 0; k * step <= end * (1 + 1e-9); ++k) {
    const double at = k * step, x = p.x(at);
    c.colour(kHairline);
    c.line_width(1);
    c.line(x, p.top, x, p.top + p.height);
    c.line(x, top, x, bottom);
    c.colour(kInk);
    for (std::size_t row = 0; row < heads.size(); ++row) {
      const double z =
          row > 0 ? along(all.surfaces[row - 1].section.points, at, [](const SectionPoint& q) { return q.value; }) : 0;
      const std::string text = row == 0        ? station_name(at, s.unit)
                               : std::isnan(z) ? "\u2013"
                                               : fmt::format("{:.2f}", z + 0.0);
      c.text_upright(x + kStationText * 0.36, top + kStationRow * (static_cast<double>(row) + 0.5), text, kStationText);
    }
  }
}

// Everything but the words above the graph.
void draw_field(Canvas& c, const Plot& p, const Profiles& all, bool in_minutes = false) {
  const Section& s = all.surfaces[0].section;
  const bool heights = s.quantity.kind == QuantityKind::Height;
  draw_axes(c, p,
            in_minutes ? std::string("time since the beginning (min)")
                       : fmt::format("{} ({})", p.x0 < 0 ? "offset from the centre line" : "distance along the line",
                                     symbol(s.unit)),
            heights ? fmt::format("height ({}{})", unit_name(s.quantity),
                                  s.quantity.heights.known() ? ", " + s.quantity.heights.name() : "")
                    : fmt::format("{} ({})", name_of(s.quantity.kind), unit_name(s.quantity)));
  if (all.corridor) {
    draw_corridor(c, p, all);
  } else {
    const Range known = range_of(all);
    draw_ground(c, p, s.points, heights && known.low < 0 && p.y1 > 0);
    if (all.surfaces.size() > 1) draw_between(c, p, s.points, all.surfaces[1].section.points);
    for (std::size_t i = 0; i < all.surfaces.size(); ++i)
      draw_sureness(c, p, all.surfaces[i].section.points, line_colour(i));
    for (std::size_t i = 0; i < all.surfaces.size(); ++i)
      draw_line(c, p, all.surfaces[i].section.points, line_colour(i));
  }
  draw_marks(c, p, all.marks);
  draw_legend(c, p, all);
}

}  // namespace

Picture draw_profiles(const Profiles& all, const GraphOptions& options) {
  require_points(all);
  const Range r = range_of(all);
  const Section& s = all.surfaces[0].section;
  const int width = std::clamp(options.width, 640, 8000), height = std::clamp(options.height, 400, 8000);
  if (options.by_time) require_times(all);
  if (options.by_time && options.stations.metres() > 0)
    throw Error(ErrorCode::BadArgument, "stations are along the line, not along time", "section",
                "leave one of them out");
  const double station = options.stations.in(s.unit);
  const double below = station > 0 ? kStationRow * static_cast<double>(all.surfaces.size() + 1) : 0;
  Canvas c(options.format, width, height + static_cast<int>(below));
  const auto [y0, y1] = with_room(drawn_range_of(all));
  const double above = all.surfaces.size() > 1 ? 118 : 92;
  const Profiles shown = options.by_time ? by_time(all) : all;
  Plot p{.left = 110,
         .top = above,
         .width = width - 110.0 - 36,
         .height = height - above - 84,
         .x0 = 0,
         .x1 = shown.surfaces[0].section.points.back().distance,
         .y0 = y0,
         .y1 = y1};
  if (!options.by_time) hold_exaggeration(p, s, options.exaggeration);
  if (station > 0 && p.width * station / (p.x1 - p.x0) < kStationText * 1.2)
    throw Error(
        ErrorCode::BadArgument, "stations so near to each other would stand in one another", "section",
        fmt::format("take {:g} {} or more", std::ceil((p.x1 - p.x0) * kStationText * 1.2 / p.width), symbol(s.unit)));
  draw_field(c, p, shown, options.by_time);
  if (station > 0) draw_stations(c, p, all, station);
  c.colour(kInk);
  c.text(p.left, 40, options.title.empty() ? "Section" : options.title, 25, Align::Left, true);
  c.colour(kQuiet);
  c.text(p.left, 68, section_facts(all, p, r, options.by_time), 17);
  return c.finish();
}

Picture draw_section(const Section& section, const GraphOptions& options) {
  return draw_profiles({.name = {}, .surfaces = {{"", section}}, .marks = {}}, options);
}

namespace {

// A graph of a sheet, drawn as if it had a sheet of this size.
constexpr double kGraphWide = 900, kGraphHigh = 430;

// Of a cross section, with offsets from the middle instead of distances.
Profiles from_middle(Profiles p) {
  const double half = p.surfaces[0].section.points.back().distance / 2;
  for (NamedSection& s : p.surfaces)
    for (SectionPoint& q : s.section.points) q.distance -= half;
  for (LineMark& m : p.marks) m.distance -= half;
  return p;
}

void draw_small(Canvas& c, const Profiles& given, Point corner, double scale, double span, double longest,
                const GraphOptions& options) {
  const Profiles all = given.across ? from_middle(given) : given;
  const Section& s = all.surfaces[0].section;
  Range r = range_of(all);
  // All to one scale, each about its own middle.
  const double middle = (r.low + r.high) / 2;
  r = {middle - span / 2, middle + span / 2};
  const double from = given.across ? -longest / 2 : 0;
  cairo_save(c.cr());
  cairo_translate(c.cr(), corner.x, corner.y);
  cairo_scale(c.cr(), scale, scale);
  c.within(static_cast<int>(kGraphWide), static_cast<int>(kGraphHigh));
  const auto [y0, y1] = with_room(r);
  Plot p{.left = 96,
         .top = 56,
         .width = kGraphWide - 96 - 30,
         .height = kGraphHigh - 56 - 78,
         .x0 = from,
         .x1 = from + longest,
         .y0 = y0,
         .y1 = y1};
  hold_exaggeration(p, s, options.exaggeration);
  draw_field(c, p, all);
  c.colour(kInk);
  c.text(p.left, 40, all.name.empty() ? "Section" : all.name, 21, Align::Left, true);
  cairo_restore(c.cr());
}

}  // namespace

Picture draw_profile_sheets(const std::vector<Profiles>& all, const GraphOptions& options) {
  if (all.empty()) throw Error(ErrorCode::BadArgument, "no section to draw", "section");
  double span = 0, longest = 0;
  if (options.by_time || options.stations.metres() > 0)
    throw Error(ErrorCode::BadArgument, "stations and times are for the graph of one line", "section",
                "give a file with one line");
  for (const Profiles& p : all) {
    require_points(p);
    const Range one = range_of(p);
    span = std::max(span, one.high - one.low);
    longest = std::max(longest, p.surfaces[0].section.points.back().distance);
  }
  const bool pages = options.format == PictureFormat::Pdf;
  if (!pages && all.size() > kMostOnSheet)
    throw Error(ErrorCode::TooLarge, fmt::format("{} sections on one sheet are too many", all.size()), "section",
                "write .pdf, which has pages");
  // A4 across in points, three rows of two; or one sheet as wide as asked.
  const double wide = pages ? 842 : std::clamp(options.width, 640, 8000), margin = pages ? 28 : 20;
  const double head = pages ? 40 : 70, across = (wide - 3 * margin) / 2;
  const double scale = std::min(across / kGraphWide, pages ? (595 - head - margin) / 3 / kGraphHigh : 1e9);
  const double step = pages ? (595 - head - margin) / 3 : kGraphHigh * scale + margin / 2;
  const auto rows = static_cast<double>((all.size() + 1) / 2);
  const double high = pages ? 595 : head + rows * step + margin;
  Canvas c(options.format, static_cast<int>(wide), static_cast<int>(std::ceil(high)));
  constexpr std::size_t kOnPage = 6;
  for (std::size_t i = 0; i < all.size(); ++i) {
    const std::size_t here = pages ? i % kOnPage : i;
    if (pages && i > 0 && here == 0) c.next_page();
    if (here == 0) {
      c.within(static_cast<int>(wide), static_cast<int>(high));
      c.colour(kInk);
      c.text(margin, pages ? 28 : 42, options.title.empty() ? "Cross sections" : options.title, pages ? 13 : 25,
             Align::Left, true);
      if (pages) {
        c.colour(kQuiet);
        c.text(wide - margin, 28, fmt::format("sheet {} of {}", i / kOnPage + 1, (all.size() + kOnPage - 1) / kOnPage),
               9, Align::Right);
      }
    }
    draw_small(
        c, all[i],
        {margin + static_cast<double>(here % 2) * (across + margin), head + static_cast<double>(here / 2) * step},
        scale, span, longest, options);
  }
  return c.finish();
}

}  // namespace katoptra
