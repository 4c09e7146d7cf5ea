#include "box_tree.hpp"

#include <algorithm>
#include <bit>
#include <cmath>
#include <cstring>
#include <string>

namespace katoptra {
namespace {

constexpr std::size_t kCell = 8 + 4 * 4;

void put(std::string& out, std::size_t at, std::uint64_t v, int bytes) {
  for (int i = bytes - 1; i >= 0; --i, v >>= 8) out[at + static_cast<std::size_t>(i)] = static_cast<char>(v & 255);
}

// Orders entries so that every `per` of them lie close together.
void tile_order(std::vector<BoxEntry>& e, std::size_t per) {
  const std::size_t nodes = (e.size() + per - 1) / per;
  const auto slices = static_cast<std::size_t>(std::ceil(std::sqrt(static_cast<double>(nodes))));
  const std::size_t per_slice = std::max<std::size_t>(per, ((nodes + slices - 1) / slices) * per);
  auto middle_x = [](const BoxEntry& a) { return a.west + a.east; };
  auto middle_y = [](const BoxEntry& a) { return a.south + a.north; };
  std::sort(e.begin(), e.end(), [&](const BoxEntry& a, const BoxEntry& b) { return middle_x(a) < middle_x(b); });
  for (std::size_t s = 0; s < e.size(); s += per_slice)
    std::sort(e.begin() + static_cast<std::ptrdiff_t>(s),
              e.begin() + static_cast<std::ptrdiff_t>(std::min(e.size(), s + per_slice)),
              [&](const BoxEntry& a, const BoxEntry& b) { return middle_y(a) < middle_y(b); });
}

}  // namespace

void fill_box_tree(Sql& sql, const std::string& name, std::vector<BoxEntry> entries) {
  if (entries.empty()) return;
  // The empty tree has its root already; its size is that of every node.
  auto root = sql.query("SELECT length(data) FROM " + name + "_node WHERE nodeno = 1");
  if (!root.step()) throw Error(ErrorCode::BadFile, "has an R*Tree without a root", sql.file(), "make it anew");
  const auto node_bytes = static_cast<std::size_t>(root.integer(0));
  root.reset();
  const std::size_t most = (node_bytes - 4) / kCell;
  auto add_node = sql.query("INSERT OR REPLACE INTO " + name + "_node(nodeno, data) VALUES (?1, ?2)");
  auto add_parent = sql.query("INSERT INTO " + name + "_parent(nodeno, parentnode) VALUES (?1, ?2)");
  std::vector<std::pair<std::int64_t, std::int64_t>> row_node;
  row_node.reserve(entries.size());
  std::int64_t next = 2;
  int depth = 0;
  std::string data;
  auto write = [&](std::int64_t node, const BoxEntry* first, std::size_t n, int tree_depth) {
    data.assign(node_bytes, '\0');
    put(data, 0, static_cast<std::uint64_t>(tree_depth), 2);
    put(data, 2, n, 2);
    for (std::size_t i = 0; i < n; ++i) {
      const std::size_t at = 4 + i * kCell;
      put(data, at, static_cast<std::uint64_t>(first[i].id), 8);
      const float c[] = {first[i].west, first[i].east, first[i].south, first[i].north};
      for (std::size_t k = 0; k < 4; ++k) put(data, at + 8 + 4 * k, std::bit_cast<std::uint32_t>(c[k]), 4);
    }
    add_node.bind(1, node).bind_blob(2, data).run();
  };
  // From the leaves up; what is below a level's node is known when the level is written.
  while (entries.size() > most) {
    tile_order(entries, most);
    std::vector<BoxEntry> above;
    for (std::size_t at = 0; at < entries.size(); at += most) {
      const std::size_t n = std::min(most, entries.size() - at);
      const std::int64_t node = next++;
      write(node, &entries[at], n, 0);
      BoxEntry box = entries[at];
      box.id = node;
      for (std::size_t i = at; i < at + n; ++i) {
        box.west = std::min(box.west, entries[i].west);
        box.east = std::max(box.east, entries[i].east);
        box.south = std::min(box.south, entries[i].south);
        box.north = std::max(box.north, entries[i].north);
        if (depth == 0)
          row_node.emplace_back(entries[i].id, node);
        else
          add_parent.bind(1, entries[i].id).bind(2, node).run();
      }
      above.push_back(box);
    }
    entries = std::move(above);
    ++depth;
  }
  write(1, entries.data(), entries.size(), depth);
  for (const BoxEntry& e : entries) {
    if (depth == 0)
      row_node.emplace_back(e.id, 1);
    else
      add_parent.bind(1, e.id).bind(2, std::int64_t{1}).run();
  }
  std::sort(row_node.begin(), row_node.end());
  auto add_row = sql.query("INSERT INTO " + name + "_rowid(rowid, nodeno) VALUES (?1, ?2)");
  for (const auto& [row, node] : row_node) add_row.bind(1, row).bind(2, node).run();
}

}  // namespace katoptra
