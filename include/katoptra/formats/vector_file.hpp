// Vector features in files: GeoJSON (RFC 7946: always longitude and latitude, 9 decimals), GeoPackage (keeps the CRS),
// GPX (read; WGS 84), tables of points (CSV: columns x and y, or lon and lat, or easting and northing; others are
// properties), and soundings (XYZ text, see formats/xyz.hpp: points with a property z).
//
//   Layer points = read_layer("control.csv", Crs::parse("EPSG:32725"));
//   write_layer(contour_layer(lines, dem), "contours.gpkg");
#pragma once
#include <filesystem>
#include <memory>
#include <string>
#include <vector>

#include "katoptra/geo/area.hpp"
#include "katoptra/geo/feature.hpp"

namespace katoptra {

// `otherwise`: the CRS of a table that does not name one; longitude and latitude columns are WGS 84 anyway.
// Errors: Io, BadFile (with line or feature), Unsupported; Refused when a table's CRS is not known.
Layer read_layer(const std::filesystem::path& path, const Crs& otherwise = {});

struct WriteLayerOptions {
  bool overwrite = false;
};
struct LayerReport {
  std::vector<std::filesystem::path> beside = {};  // other files that belong to it
  std::vector<std::string> notes = {};             // what the format could not say
};
// By the ending of the name (endings_of(Holds::Features, Use::Written)); Unsupported for others, and for features that
// the format does not hold.
LayerReport write_layer(const Layer& layer, const std::filesystem::path& path, const WriteLayerOptions& options = {});
// A layer written feature by feature. GeoPackage and GeoJSON need no memory for it; others are kept until they are
// finished, TooLarge when they come to more than `memory`.
class LayerWriter {
 public:
  virtual ~LayerWriter() = default;
  virtual void add(const Feature& f) = 0;
  // Without it nothing is left behind.
  virtual LayerReport finish() = 0;
};
// `like`: name, CRS and unit of the layer, and one feature that has the kind of geometry and the properties of all.
std::unique_ptr<LayerWriter> open_layer_writer(const std::filesystem::path& path, const Layer& like,
                                               const WriteLayerOptions& options = {},
                                               std::size_t memory = std::size_t{512} << 20);
// A layer as GeoJSON text.
std::string to_geojson(const Layer& layer);

// All polygons of a file as one area. BadFile when there are none.
Area read_area(const std::filesystem::path& path);
// The line of a file, in `crs`: parts that meet end to end are one. Of several that do not meet the first is taken, and
// `notes` is told. BadFile when there is none.
LineString read_line(const std::filesystem::path& path, const Crs& crs, std::vector<std::string>* notes = nullptr);

// All lines of a file that do not meet, with their names (properties name, label or id; else A, B ...) and the times of
// their points where the file has them.
struct NamedLine {
  std::string name;
  LineString line;
  std::vector<double> times = {};
};
std::vector<NamedLine> read_lines(const std::filesystem::path& path, const Crs& crs,
                                  std::vector<std::string>* notes = nullptr);

}  // namespace katoptra
