// Which items a search means: the parameters of STAC item search and filters in CQL2 JSON.
#pragma once
#include <nlohmann/json.hpp>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "katoptra/geo/geometry.hpp"

namespace katoptra {

struct ItemSearch {
  std::vector<Bounds> boxes;  // any of them; none: everywhere
  std::optional<MultiPolygon> shape;
  std::string from, to;  // moments as text (RFC 3339 sorts), empty: open
  std::set<std::string> collections, ids;
  std::optional<nlohmann::json> filter;
  std::size_t limit = 10, offset = 0;

  bool matches(const nlohmann::json& item) const;
};

// BadArgument names the parameter that is wrong.
ItemSearch parse_item_search(const nlohmann::json& request, std::size_t most);

}  // namespace katoptra
