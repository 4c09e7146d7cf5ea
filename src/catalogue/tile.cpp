#include "katoptra/catalogue/tile.hpp"

#include <algorithm>
#include <fmt/format.h>
#include <map>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/http.hpp"

#include "base/text.hpp"

namespace katoptra {

const char* name_of(TileKind kind) {
  return kind == TileKind::Grid ? "grid" : kind == TileKind::Points ? "points" : "soundings";
}
const char* name_of(Access access) {
  return access == Access::Open ? "open" : access == Access::Key ? "key" : "restricted";
}

TileKind parse_tile_kind(std::string_view text) {
  for (TileKind k : {TileKind::Grid, TileKind::Points, TileKind::Soundings})
    if (text == name_of(k)) return k;
  throw Error(ErrorCode::BadArgument, fmt::format("'{}' is not a kind of tile", text), {},
              "use grid, points or soundings");
}

Access parse_access(std::string_view text) {
  for (Access a : {Access::Open, Access::Key, Access::Restricted})
    if (text == name_of(a)) return a;
  throw Error(ErrorCode::BadArgument, fmt::format("'{}' is not a kind of access", text), {},
              "use open, key or restricted");
}

bool TileRecord::remote() const { return is_url(path.native()); }

MultiPolygon TileRecord::footprint(const Crs& crs, double middle) const {
  const bool framed = frame && frame->crs();
  if (!framed && outline.empty()) return {};
  MultiPolygon shape = framed ? MultiPolygon{to_polygon(frame->bounds())} : outline;
  const Crs from = framed ? frame->crs() : Crs::wgs84();
  if (from.is_geographic()) shape = told_around(shape, middle);
  if (from.same_place(crs)) return shape;
  shape = transformed(shape, Transform(from, crs));
  return crs.is_geographic() ? told_around(shape, middle) : shape;
}

Bounds TileRecord::globe_box() const {
  if (frame && frame->crs()) {
    if (frame->crs().same_place(Crs::wgs84())) return frame->bounds();
    return transformed(frame->bounds(), Transform(frame->crs(), Crs::wgs84()));
  }
  return outline.empty() ? Bounds() : bounds_of(told_around(outline, bounds_of(outline.front().outer).centre().x));
}

void supersede_by_what_was_made(std::vector<TileRecord>& tiles) {
  std::map<std::filesystem::path, TileRecord*> by_path;
  for (TileRecord& t : tiles) by_path[t.path] = &t;
  for (const TileRecord& t : tiles) {
    if (t.made_from.empty() || t.joined > 0 || !t.openable) continue;
    const auto source = by_path.find(t.path.parent_path() / t.made_from);
    if (source == by_path.end() || source->second == &t || !source->second->frame || !t.frame) continue;
    if (*source->second->frame == *t.frame)
      source->second->superseded = fmt::format("{} was made from it and takes its place", t.path.filename().string());
  }
}

std::string why_no_survey(const TileRecord& t) {
  if (t.joined > 1)
    return fmt::format(
        "was made here of {} files: no survey (products = true in the survey.toml beside it makes it one)", t.joined);
  return t.superseded;
}

std::string short_name(const TileRecord& t) {
  const std::string name = t.remote() ? url_file_name(t.path.native()) : t.path.filename().string();
  const std::string folder = t.path.parent_path().filename().string();
  return folder.empty() ? name : folder + "/" + name;
}

namespace {
bool has_part(const std::string& whole, const std::string& part) {
  return lower_case(whole).find(lower_case(part)) != std::string::npos;
}
int year_of(const std::string& date) {
  return static_cast<int>(parse_number(date.substr(0, std::min<std::size_t>(4, date.size()))).value_or(0));
}
}  // namespace

std::string TileFilter::refuses(const TileRecord& t) const {
  const int year = year_of(t.date);
  const double cell = t.spacing.y.metres();
  if (kind && t.kind != *kind) return fmt::format("is {}, and {} was asked for", name_of(t.kind), name_of(*kind));
  if ((from_year && year < *from_year) || (to_year && (year > *to_year || year == 0)))
    return year ? fmt::format("is of {}", year) : "its year is not known";
  if (coarsest && !(cell > 0 && cell <= coarsest->metres() * (1 + 1e-3)))
    return cell > 0 ? "its cell is " + format_length(Length::metres(cell)) : "its cell is not known";
  if (density && t.density < *density)
    return t.density > 0 ? fmt::format("has {:.3g} points a square metre", t.density) : "its density is not known";
  if (heights && !(t.quantity.heights == *heights))
    return t.quantity.heights.known() ? "its heights are above " + t.quantity.heights.name()
                                      : "does not say from where heights are counted";
  if (!format.empty() && !has_part(t.format, format)) return "is " + t.format;
  if (!survey.empty() && !has_part(t.survey, survey)) return "belongs to " + t.survey;
  if (point_class && std::find(t.classes.begin(), t.classes.end(), *point_class) == t.classes.end())
    return fmt::format("has no points of class {}", *point_class);
  if (access && t.access != *access) return fmt::format("its access is {}", name_of(t.access));
  return {};
}

}  // namespace katoptra
