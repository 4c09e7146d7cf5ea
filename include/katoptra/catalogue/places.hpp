// Areas by name: places of a gazetteer, sheets of a catalogue.
//
//   Gazetteer g = read_gazetteer("gazetteer.geojson");
//   Area inlet = g.area_of("kessa inlet");
//
// A gazetteer is a GeoJSON file of features with a `name` (and, if wanted, `names`: other names in a list separated by
// semicolons). A polygon is the area itself. A point needs a `radius` in metres, or the radius that the caller gives.
#pragma once
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "katoptra/catalogue/tile.hpp"
#include "katoptra/geo/area.hpp"
#include "katoptra/geo/feature.hpp"

namespace katoptra {

class Gazetteer {
 public:
  explicit Gazetteer(Layer places, std::string file = {});
  // In any case, first whole names, then beginnings, then parts of names. BadArgument when none fits (with the nearest
  // names) or several do (with all of them), or when a point has no extent.
  Area area_of(std::string_view name, std::optional<Length> radius = std::nullopt) const;
  std::vector<std::string> names() const;

 private:
  Layer places_;
  std::string file_;
};
Gazetteer read_gazetteer(const std::filesystem::path& path);

// The footprint of the tile that is called so (its id, or the name of its file with or without extension). BadArgument
// when there is none, or several that lie in different places.
Area sheet_area(const std::vector<TileRecord>& tiles, std::string_view name);

}  // namespace katoptra
