// Points in tables (CSV) and as lines of x, y, z.
#include "tables.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/base/units.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/xyz.hpp"

#include "base/csv.hpp"
#include "base/text.hpp"
#include "prj.hpp"
#include "wkt.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

// The first line names columns.
bool is_table(const fs::path& path) {
  const std::string text = read_text_file(path);
  const std::string first = lower_case(text.substr(0, text.find('\n')));
  return first.find_first_of("abcdefghijklmnopqrstuvwxyz") != first.npos && !first.starts_with("#");
}

std::string field_of(const Property& p) {
  if (const double* v = std::get_if<double>(&p); v && std::isnan(*v)) return "";
  return csv_field(text_of(p));
}

bool only_points(const Layer& layer) {
  return std::all_of(layer.features.begin(), layer.features.end(),
                     [](const Feature& f) { return std::holds_alternative<Point>(f.geometry); });
}

const Point& only_point(const Feature& f, const fs::path& path) {
  const Point* p = std::get_if<Point>(&f.geometry);
  if (!p)
    throw Error(ErrorCode::Unsupported, "lines of x, y and z are points, and these are lines or areas", path.string(),
                "write .geojson, .gpkg or .csv");
  return *p;
}

// Coordinates and all properties, one feature a line; lines and areas as well-known text.
std::string table_text(const Layer& layer, const fs::path& path) {
  std::vector<std::string> names;
  for (const Feature& f : layer.features)
    for (const auto& property : f.properties)
      if (std::find(names.begin(), names.end(), property.first) == names.end()) names.push_back(property.first);
  const bool points = only_points(layer);
  std::string text = !points ? "wkt" : layer.crs.is_geographic() ? "lon,lat" : "x,y";
  for (const std::string& n : names) text += "," + csv_field(n);
  text += "\n";
  for (const Feature& f : layer.features) {
    if (points) {
      const Point p = only_point(f, path);
      text += fmt::format("{:.12g},{:.12g}", p.x, p.y);
    } else {
      text += csv_field(wkt_of(f));
    }
    for (const std::string& n : names) {
      const auto found =
          std::find_if(f.properties.begin(), f.properties.end(), [&](const auto& q) { return q.first == n; });
      text += "," + (found == f.properties.end() ? "" : field_of(found->second));
    }
    text += "\n";
  }
  return text;
}

// x y z, where z is the property of that name, else "value", else the first number; points without one are left out.
std::string xyz_text(const Layer& layer, const fs::path& path) {
  std::string text = layer.crs.is_geographic() ? "lon lat z\n" : "x y z\n";
  for (const Feature& f : layer.features) {
    const Point p = only_point(f, path);
    const double* z = nullptr;
    for (const char* wanted : {"z", "value", ""})
      for (const auto& [name, value] : f.properties)
        if (!z && (name == wanted || !*wanted)) z = std::get_if<double>(&value);
    if (z && !std::isnan(*z)) text += fmt::format("{:.12g} {:.12g} {}\n", p.x, p.y, *z);
  }
  return text;
}

}  // namespace

namespace {

Property value_of(const std::string& text) {
  if (const auto v = parse_number(text)) return *v;
  return text;
}

Layer with_wkt(const std::vector<std::vector<std::string>>& rows, std::size_t column, const fs::path& path,
               const Crs& otherwise) {
  Layer layer{.name = path.stem().string(), .crs = read_prj(path, otherwise), .features = {}};
  if (!layer.crs)
    throw Error(ErrorCode::Refused, "does not say in which CRS its geometries are", path.string(),
                "tell it with @CRS or --crs");
  for (std::size_t r = 1; r < rows.size(); ++r) {
    const std::string line = fmt::format("{} line {}", path.string(), r + 1);
    if (rows[r].size() <= column) throw Error(ErrorCode::BadFile, "has too few columns", line);
    for (Feature& f : features_of_wkt(rows[r][column], line)) {
      for (std::size_t i = 0; i < rows[r].size() && i < rows[0].size(); ++i)
        if (i != column && !rows[r][i].empty()) f.properties.emplace_back(rows[0][i], value_of(rows[r][i]));
      layer.features.push_back(std::move(f));
    }
  }
  return layer;
}

}  // namespace

Layer read_table(const fs::path& path, const Crs& otherwise) {
  const std::string text = read_text_file(path);
  const std::string first = text.substr(0, text.find('\n'));
  const char separator = first.find(';') != first.npos ? ';' : first.find('\t') != first.npos ? '\t' : ',';
  const auto rows = parse_csv(text, separator);
  if (rows.empty()) throw Error(ErrorCode::BadFile, "has no rows", path.string());
  std::size_t x = rows[0].size(), y = x, wkt = x;
  bool degrees = false;
  for (std::size_t i = 0; i < rows[0].size(); ++i) {
    const std::string name = lower_case(rows[0][i]);
    if (name == "x" || name == "easting" || name == "east") x = i;
    if (name == "y" || name == "northing" || name == "north") y = i;
    if (name == "lon" || name == "longitude" || name == "lat" || name == "latitude") {
      (name.starts_with("lon") ? x : y) = i;
      degrees = true;
    }
    if (name == "wkt" || name == "geometry" || name == "geom") wkt = i;
  }
  if (wkt < rows[0].size()) return with_wkt(rows, wkt, path, otherwise);
  if (x == rows[0].size() || y == rows[0].size())
    throw Error(ErrorCode::BadFile, "its first line names no columns x and y (or lon and lat, or easting and northing)",
                path.string(), "name the columns in the first line");
  Layer layer;
  layer.name = path.stem().string();
  layer.crs = degrees ? Crs::wgs84() : otherwise;
  if (!layer.crs)
    throw Error(ErrorCode::Refused, "does not say in which CRS its x and y are", path.string(),
                "tell it with @CRS or --crs");
  for (std::size_t r = 1; r < rows.size(); ++r) {
    if (rows[r].size() <= std::max(x, y))
      throw Error(ErrorCode::BadFile, "has too few columns", fmt::format("{} line {}", path.string(), r + 1));
    const auto px = parse_number(rows[r][x]), py = parse_number(rows[r][y]);
    if (!px || !py)
      throw Error(ErrorCode::BadFile, fmt::format("'{}', '{}' are no coordinates", rows[r][x], rows[r][y]),
                  fmt::format("{} line {}", path.string(), r + 1));
    Feature f{Point{*px, *py}, {}};
    for (std::size_t i = 0; i < rows[r].size() && i < rows[0].size(); ++i) {
      if (i == x || i == y || rows[r][i].empty()) continue;
      f.properties.emplace_back(rows[0][i], value_of(rows[r][i]));
    }
    layer.features.push_back(std::move(f));
  }
  return layer;
}

Layer read_soundings(const fs::path& path, const Crs& otherwise) {
  const auto bytes = open_file(path);
  const XyzFacts facts = look_at_xyz(*bytes);
  Layer layer;
  layer.name = path.stem().string();
  layer.crs = facts.crs ? facts.crs : otherwise;
  if (!layer.crs)
    throw Error(ErrorCode::Refused, "does not say in which CRS its x and y are", path.string(), "tell it with --crs");
  layer.features.reserve(facts.points);
  each_xyz(*bytes, {}, [&](double x, double y, double z) { layer.features.push_back({Point{x, y}, {{"z", z}}}); });
  return layer;
}

Layer read_table_or_soundings(const fs::path& path, const Crs& otherwise) {
  return is_table(path) ? read_table(path, otherwise) : read_soundings(path, otherwise);
}

LayerReport write_table(const Layer& layer, const fs::path& path, bool overwrite) {
  const bool with_prj = !only_points(layer);
  if (with_prj) require_prj(path, layer.crs, overwrite);
  write_text_file(path, table_text(layer, path), {.overwrite = overwrite});
  return with_prj ? write_prj(path, layer.crs) : LayerReport{};
}

LayerReport write_soundings(const Layer& layer, const fs::path& path, bool overwrite) {
  write_text_file(path, xyz_text(layer, path), {.overwrite = overwrite});
  return {};
}

}  // namespace katoptra
