// Survey points in a page: blocks of some ten thousand that lie together, each column packed by itself.
#pragma once
#include <nlohmann/json.hpp>

#include "katoptra/points/points.hpp"

#include "html_page.hpp"

namespace katoptra {

struct PagePoints {
  nlohmann::ordered_json facts;
  std::int64_t shown = 0, there = 0;  // there: on the frame
};
// Those on the frame, put into the page as "points"; null facts where there are none. Of more than `most`, so many that are
// chosen evenly, in one reading.
PagePoints put_points(PageData& page, const PointCloud& cloud, const Frame& frame, std::int64_t most,
                      const RunOptions& run);

}  // namespace katoptra
