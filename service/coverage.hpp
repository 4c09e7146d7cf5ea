// What a page asks while an area is drawn on it, and the answer: the search that `find` runs.
#pragma once
#include <nlohmann/json.hpp>
#include <set>
#include <string>

#include "katoptra/catalogue/find.hpp"

namespace katoptra {

// A drawn area with more corners than this is not searched.
inline constexpr std::size_t kMostCorners = 20'000;

struct CoverageQuestion {
  Area area;
  FindOptions options;
  std::set<std::string> dropped;  // tiles that were dropped by hand, by path, survey and name
};
// {"text": "box:..."} or {"shape": coordinates of a MultiPolygon}, with "filter" and "drop". An area is never a file:
// BadArgument for all that is not drawn or written out.
CoverageQuestion parse_coverage_question(const nlohmann::json& question);
// Among tiles as the page tells them.
Shortlist search_coverage(const Catalogue& tiles, const CoverageQuestion& question);

}  // namespace katoptra
