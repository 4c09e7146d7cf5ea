#include "katoptra/view/page.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>

#include "katoptra/base/error.hpp"
#include "katoptra/version.hpp"

#include "html_page.hpp"
#include "land.hpp"
#include "page_parts.hpp"
#include "page_points.hpp"

namespace katoptra {

using nlohmann::ordered_json;

namespace {

class SurfaceWriter {
 public:
  SurfaceWriter(HtmlPage& html, const SurfacePage& p, Cells kind) : page_(p), html_(html), kind_(kind) {
    facts_ = {{"version", KATOPTRA_VERSION}, {"title", p.title}};
    facts_["surfaces"] = facts_["drapes"] = facts_["planes"] = facts_["pins"] = facts_["lines"] = ordered_json::array();
  }

  Page put() {
    if (page_.surfaces.empty()) throw Error(ErrorCode::BadArgument, "a page needs a surface", "page");
    for (const PagePlane& s : page_.surfaces) add_surface(s);
    add_planes_of_first();
    for (const PagePlane& d : page_.drapes) {
      const Grid cells = on_frame(d.grid);
      facts_["drapes"].push_back(
          {{"label", label_of(d)}, {"plane", add_plane(cells, values_of(cells, page_.run), d.look)}});
    }
    for (const PagePicture& p : page_.pictures) add_picture(p);
    for (const PagePin& p : page_.pins)
      facts_["pins"].push_back({{"at", cell_at(p.place)},
                                {"name", p.name},
                                {"text", p.text},
                                {"tone", p.tone},
                                {"shape", rings_of(p.shape)}});
    for (const PageLine& l : page_.lines) {
      ordered_json points = ordered_json::array();
      for (const Point& p : l.line) points.push_back(cell_at(p));
      facts_["lines"].push_back({{"name", l.name}, {"points", points}});
    }
    PagePoints points;
    if (page_.points) points = add_points(*page_.points);
    facts_["frame"] = frame_for_page(frame());
    facts_["ramps"] = {{"plain", ramp_for_page(Palette::plain(0, 1), 0)},
                       {"directions", ramp_for_page(Palette::directions(), 0)},
                       {"differences", ramp_for_page(Palette::around_zero(1), 0)}};
    html_.json("facts", facts_);
    return {{}, frame(), shown_->times, step_, points.shown, points.there};
  }

 private:
  const Frame& frame() const { return shown_->grid.frame(); }
  static std::string label_of(const PagePlane& p) { return p.label.empty() ? p.grid.info().name : p.label; }

  // Fractional column and row of the cells shown.
  ordered_json cell_at(Point p) const { return {frame().col_at(frame().told_here(p.x)), frame().row_at(p.y)}; }

  ordered_json rings_of(const MultiPolygon& shape) const {
    ordered_json polygons = ordered_json::array();
    for (const Polygon& p : shape) {
      ordered_json rings = ordered_json::array();
      const auto add = [&](const Ring& ring) {
        ordered_json points = ordered_json::array();
        for (const Point& q : ring) points.push_back(cell_at(q));
        rings.push_back(std::move(points));
      };
      add(p.outer);
      for (const Ring& hole : p.holes) add(hole);
      polygons.push_back(std::move(rings));
    }
    return polygons;
  }

  // Brought to the cells shown.
  Grid on_frame(const Grid& grid) const {
    if (grid.frame() == frame()) return grid;
    if (!grid.frame().crs() != !frame().crs())
      throw Error(ErrorCode::Refused, "one has a CRS and the other has none", grid.info().name,
                  "say where it lies (--from-crs)");
    return at_pixels(somewhere(grid), somewhere(shown_->grid).frame());
  }

  // `colours`: as colours_for_page.
  std::size_t add_plane(const Grid& cells, const std::vector<float>& values, const ordered_json& colours) {
    auto& planes = facts_["planes"];
    planes.push_back(
        plane_for_page(html_, fmt::format("plane{}", planes.size()), cells, values, page_.drape_steps, page_.run));
    planes.back().update(colours);
    return planes.size() - 1;
  }
  std::size_t add_plane(const Grid& cells, const std::vector<float>& values, const LandLook& look) {
    return add_plane(cells, values, colours_for_page(cells.quantity(), values, look));
  }

  void add_surface(const PagePlane& s) {
    const Quantity& q = s.grid.quantity();
    if (q.kind != QuantityKind::Height)
      throw Error(ErrorCode::Refused, fmt::format("its values are {}, not heights", name_of(q.kind)),
                  s.grid.info().name, "give it as a drape over a surface");
    Grid given = s.grid;
    if (shown_) {
      const Quantity& first = shown_->grid.quantity();
      if (q.heights.known() && first.heights.known() && !(q.heights == first.heights))
        throw Error(ErrorCode::Refused,
                    fmt::format("its heights are above {}, those of the first surface above {}", q.heights.name(),
                                first.heights.name()),
                    s.grid.info().name, "bring both to one reference (--heights)");
      given = in_unit(given, first.unit);
    } else {
      shown_ = shown_by(given, std::clamp<std::int64_t>(page_.most_cells, 1000, 16'000'000), kind_);
      given = shown_->grid;
    }
    const Grid cells = on_frame(given);
    if (frame().cols() < 2 || frame().rows() < 2)
      throw Error(ErrorCode::Refused, "it is a single row of cells, which is no ground to look at", s.grid.info().name);
    // Where cells are shown as they are, the other planes come with the same reading.
    const Planes planes = facts_["surfaces"].empty() && shown_->times == 1 ? wanted(cells) : Planes::Values;
    const std::vector<float> values =
        planes != Planes::Values ? values_and_planes(cells, planes) : values_of(cells, page_.run);
    if (std::all_of(values.begin(), values.end(), [](float v) { return std::isnan(v); }))
      throw Error(ErrorCode::Refused,
                  facts_["surfaces"].empty() ? "it has no known cell" : "it has no known cell on the first surface",
                  s.grid.info().name);
    const std::size_t plane = add_plane(cells, values, s.look);
    if (plane == 0) step_ = facts_["planes"][0]["step"].get<double>();
    const Frame& whole = s.grid.frame();
    facts_["surfaces"].push_back({{"label", label_of(s)},
                                  {"plane", plane},
                                  {"unit", symbol(given.quantity().unit)},
                                  {"metres", metres_per(given.quantity().unit)},
                                  {"heights", q.heights.known() ? q.heights.name() : ""},
                                  {"cols", whole.cols()},
                                  {"rows", whole.rows()},
                                  {"times", facts_["surfaces"].empty() ? shown_->times : 1},
                                  {"overview", facts_["surfaces"].empty() && shown_->overview},
                                  {"notes", s.grid.info().notes}});
  }

  // As fine as it may be seen: more pixels than cells where those are few.
  void add_picture(const PagePicture& p) {
    constexpr std::int64_t kSide = 2048;
    const int times =
        static_cast<int>(std::clamp<std::int64_t>(kSide / std::max(frame().cols(), frame().rows()), 1, 8));
    const Frame pixels = finer(frame(), times);
    std::vector<MapOverlay> one(1);
    one[0].raster = MapRaster{.grids = p.grids};
    const Pixels rgba = RasterPixels(one, RasterColours(one, page_.run), pixels, false).read(one[0], pixels.window());
    if (rgba.empty())
      throw Error(ErrorCode::Refused, "it does not lie where the surface does", p.label, "say where it lies");
    facts_["drapes"].push_back(
        {{"label", p.label}, {"picture", png_address(pixels, rgba)}, {"cols", pixels.cols()}, {"rows", pixels.rows()}});
  }

  PagePoints add_points(const PointCloud& cloud) {
    const PointInfo& info = cloud.info();
    const Quantity& first = shown_->grid.quantity();
    if (!info.crs.same_place(frame().crs()) || info.quantity.unit != first.unit)
      throw Error(ErrorCode::BadArgument, "the points are in another CRS or unit than the surface", info.name,
                  "bring them to it first");
    PagePoints p = put_points(html_, cloud, frame(), page_.most_points, page_.run);
    if (p.shown == 0)
      throw Error(ErrorCode::Refused, "no point lies on the surface", info.name, "give points of the same place");
    p.facts["label"] = info.name;
    facts_["points"] = p.facts;
    return p;
  }

  // What of a surface is shown besides its heights. A file alone, all of it measured, has no lineage to tell.
  Planes wanted(const Grid& g) const {
    return planes_with(page_.lineage && !g.info().sources.empty(), g.carries_uncertainty());
  }
  std::vector<float> values_and_planes(const Grid& cells, Planes planes) {
    const auto n = static_cast<std::size_t>(cells.frame().cols() * cells.frame().rows());
    std::vector<float> values;
    values.reserve(n);
    for_each_band(cells, planes, page_.run, [&](const Block& b) {
      const std::int64_t here = b.window().cells();
      values.insert(values.end(), b.row(0), b.row(0) + here);
      if (const Origin* o = b.origin_row(0))
        std::transform(o, o + here, std::back_inserter(origins_),
                       [](Origin code) { return code != 0 ? static_cast<float>(code) : kVoid; });
      if (const float* u = b.uncertainty_row(0)) uncertainties_.insert(uncertainties_.end(), u, u + here);
    });
    return values;
  }
  // Where cells were made larger: those of the middle ones.
  void middle_planes(const Grid& whole, Planes planes) {
    const Frame& shown = frame();
    const auto cols = static_cast<std::size_t>(shown.cols()), n = cols * static_cast<std::size_t>(shown.rows());
    if (has_origin(planes)) origins_.assign(n, kVoid);
    if (has_uncertainty(planes)) uncertainties_.assign(n, kVoid);
    const auto times = static_cast<std::int64_t>(shown_->times);
    for_each_band(whole, planes, page_.run, [&](const Block& b) {
      for (std::int64_t r = 0; r < b.window().rows; ++r) {
        const std::int64_t row = b.window().row + r;
        if (row % times != times / 2 || row / times >= shown.rows()) continue;
        for (std::int64_t c = times / 2; c < b.window().cols && c / times < shown.cols(); c += times) {
          const std::size_t at = static_cast<std::size_t>(row / times) * cols + static_cast<std::size_t>(c / times);
          if (has_uncertainty(planes)) uncertainties_[at] = b.uncertainty_row(r)[c];
          if (const Origin o = has_origin(planes) ? b.origin_row(r)[c] : 0; o != 0)
            origins_[at] = static_cast<float>(o);
        }
      }
    });
  }

  void add_planes_of_first() {
    const Grid& whole = page_.surfaces[0].grid;
    if (shown_->times != 1) {
      // Of one source there is no lineage that would be worth a second reading.
      const Planes planes = planes_with(page_.lineage && whole.info().sources.size() > 1, whole.carries_uncertainty());
      if (planes != Planes::Values) middle_planes(whole, planes);
    }
    if (!origins_.empty()) add_lineage(whole);
    if (!uncertainties_.empty()) add_uncertainty();
  }

  void add_uncertainty() {
    if (std::all_of(uncertainties_.begin(), uncertainties_.end(), [](float u) { return std::isnan(u); })) return;
    const Grid plane = grid_from_values(frame(), uncertainties_, uncertainty_of(shown_->grid.quantity()),
                                        SampleType::Float32, "uncertainty");
    facts_["drapes"].push_back({{"label", "uncertainty"}, {"plane", add_plane(plane, uncertainties_, LandLook())}});
  }

  // Which source and how, as classes.
  void add_lineage(const Grid& whole) {
    std::map<Origin, std::size_t> found;
    float before = kVoid;
    std::size_t* count = nullptr;
    for (const float c : origins_) {
      if (std::isnan(c)) continue;
      if (!count || c != before) count = &found[static_cast<Origin>(c)];
      before = c;
      ++*count;
    }
    if (found.size() < 2) return;
    const Grid plane = grid_from_values(frame(), origins_, {.kind = QuantityKind::Code}, SampleType::UInt32, "lineage");
    const std::size_t at = add_plane(plane, origins_, ordered_json{{"classes", origins(whole.info(), found)}});
    facts_["lineage"] = at;
    facts_["drapes"].push_back({{"label", "where it comes from"}, {"plane", at}});
  }

  // A hue for each source, a lightness for how.
  static ordered_json origins(const GridInfo& info, const std::map<Origin, std::size_t>& found) {
    ordered_json list = ordered_json::array();
    std::map<std::uint32_t, int> hues;
    for (const auto& [origin, n] : found) hues.emplace(source_of(origin), static_cast<int>(hues.size()));
    for (const auto& [origin, n] : found) {
      const std::uint32_t s = source_of(origin);
      const SourceRecord record =
          s >= 1 && s <= info.sources.size() ? info.sources[s - 1] : SourceRecord{.name = "unknown"};
      // By the golden angle, so that few sources stand far apart and many still differ.
      const double hue = std::fmod(25 + 137.508 * hues.at(s), 360), lightness = how_of(origin) == How::Measured ? 0.74
                                                                                : how_of(origin) == How::Filled ? 0.5
                                                                                                                : 0.62;
      list.push_back({{"code", origin},
                      {"name", record.name},
                      {"how", name_of(how_of(origin))},
                      {"survey", record.survey},
                      {"date", record.date},
                      {"cells", n},
                      {"colour", hex_of(from_oklch(lightness, 0.1, hue))}});
    }
    return list;
  }

  const SurfacePage& page_;
  HtmlPage& html_;
  Cells kind_;
  ordered_json facts_;
  std::optional<Shown> shown_;
  std::vector<float> origins_;        // codes of the cells shown; empty where nobody looked
  std::vector<float> uncertainties_;  // of the first surface, in its own unit; the same
  double step_ = 0;
};

}  // namespace

Page put_surfaces(HtmlPage& html, const SurfacePage& page, Cells cells) {
  return SurfaceWriter(html, page, cells).put();
}

Page surface_page(const SurfacePage& page) {
  HtmlPage html(page.title, "view/main.js");
  html.needs_three();
  Page p = put_surfaces(html, page);
  p.html = html.html();
  return p;
}

}  // namespace katoptra
