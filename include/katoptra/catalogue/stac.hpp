// Tiles as STAC 1.0 items, both ways, with the extensions projection, raster, pointcloud, file and version; what
// Katoptra knows beyond them has the prefix "katoptra:" (docs/catalogue.md). Whatever else an item says is kept with
// it.
//
//   std::vector<TileRecord> tiles = tiles_of_item(text, {.base = "http://127.0.0.1:8080/collections/a/items/b"});
//   std::string item = item_of_tile(tile, {.self = "items/b", .collection_id = "a"});
#pragma once
#include <functional>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include "katoptra/catalogue/tile.hpp"

namespace katoptra {

inline constexpr const char* kStacVersion = "1.0.0";

// A collection: what holds for all tiles of a survey.
struct SurveyRecord {
  std::string id, title, licence, custodian;
  Access access = Access::Open;
  std::string document;  // the STAC collection as it stands
};

struct ItemContext {
  std::string base;             // where the item stands; references count from there
  std::set<std::string> hosts;  // beside that of `base`, hosts whose files may be used
  const SurveyRecord* survey = nullptr;
};
// One tile an asset that holds data. BadFile when it is no item (the reason names the key). References from a web
// address to a local file, or to a host that was not named, make tiles that are marked untrusted.
std::vector<TileRecord> tiles_of_item(std::string_view item, const ItemContext& context);
// BadFile when it is no collection.
SurveyRecord survey_of_collection(std::string_view collection);

struct ItemLinks {
  std::string self, root, parent, collection;  // addresses; empty ones are left out
  std::string collection_id;
  std::string href;  // of the data
};
std::string item_of_tile(const TileRecord& tile, const ItemLinks& links);
// The collection of a survey with these tiles (at least one), which share licence and custodian.
std::string collection_of_survey(const std::string& id, const std::vector<const TileRecord*>& tiles,
                                 const ItemLinks& links);
// "marrowick-ground-2022": a name that can stand in an address.
std::string survey_id(std::string_view title);

}  // namespace katoptra
