// The octree of a COPC file (Cloud Optimized Point Cloud 1.0): pages of nodes, each a chunk of its own.
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <set>

#include "katoptra/base/error.hpp"

#include "las_source.hpp"
#include "laz_items.hpp"

namespace katoptra::las {
namespace {

using laz::load;

constexpr std::size_t kEntry = 32;
// Pages and nodes that a file may have at most; levels that can be told apart in doubles.
constexpr std::uint64_t kLongestPage = 64 << 20;
constexpr std::size_t kMostNodes = 20'000'000;
constexpr int kDeepest = 40;

struct Page {
  std::uint64_t at, bytes;
};

}  // namespace

std::vector<OctreeNode> octree_nodes(const ByteSource& file, const Record& info, const Bounds& box, double spacing) {
  const std::uint8_t* p = info.bytes.data();
  const double centre[2] = {load<double>(p), load<double>(p + 8)}, half = load<double>(p + 24),
               root_spacing = load<double>(p + 32);
  if (!std::isfinite(centre[0]) || !std::isfinite(centre[1]) || !(half > 0) || !std::isfinite(half))
    damaged(file, "the cube of its octree is no cube");
  std::vector<Page> pages{{load<std::uint64_t>(p + 40), load<std::uint64_t>(p + 48)}};
  std::set<std::uint64_t> seen;
  std::vector<OctreeNode> out;
  std::size_t nodes = 0;
  while (!pages.empty()) {
    const Page page = pages.back();
    pages.pop_back();
    if (!seen.insert(page.at).second) damaged(file, "a page of its octree leads back to itself");
    if (page.bytes > kLongestPage || page.at > file.size() || page.bytes > file.size() - page.at)
      damaged(file, "a page of its octree lies beyond the end of the file");
    std::vector<std::uint8_t> bytes(static_cast<std::size_t>(page.bytes));
    file.read_exactly(page.at, bytes);
    for (std::size_t i = 0; i + kEntry <= bytes.size(); i += kEntry) {
      const std::uint8_t* e = bytes.data() + i;
      const auto level = load<std::int32_t>(e);
      const std::int32_t key[2] = {load<std::int32_t>(e + 4), load<std::int32_t>(e + 8)};
      const auto at = load<std::uint64_t>(e + 16);
      const auto size = load<std::int32_t>(e + 24), points = load<std::int32_t>(e + 28);
      if (level < 0 || level > kDeepest || key[0] < 0 || key[1] < 0 || size < 0 || points < -1)
        damaged(file, "a node of its octree contradicts itself");
      if (++nodes > kMostNodes) damaged(file, "its octree has more nodes than can be");
      const double edge = 2 * half / std::exp2(level);
      OctreeNode n{at, static_cast<std::uint32_t>(size), static_cast<std::uint32_t>(std::max(points, 0)), {}};
      n.box.west = centre[0] - half + key[0] * edge;
      n.box.south = centre[1] - half + key[1] * edge;
      n.box.east = n.box.west + edge;
      n.box.north = n.box.south + edge;
      if (!box.empty() && !n.box.intersects(box)) continue;
      // A level halves the distance between points; those that would only add finer ones are left out.
      if (spacing > 0 && level > 0 && root_spacing / std::exp2(level - 1) <= spacing) continue;
      if (points < 0) {
        pages.push_back({at, static_cast<std::uint64_t>(size)});
        continue;
      }
      if (points == 0) continue;
      if (at > file.size() || n.bytes > file.size() - at)
        damaged(file, "a node of its octree lies beyond the end of the file");
      // Points lie on the far sides of their cubes, too, give or take the rounding of their integers.
      n.box = n.box.grown(1e-6 * edge + 1e-6);
      out.push_back(n);
    }
  }
  std::sort(out.begin(), out.end(), [](const OctreeNode& a, const OctreeNode& b) { return a.at < b.at; });
  return out;
}

}  // namespace katoptra::las
