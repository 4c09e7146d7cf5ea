// Fills an R*Tree of SQLite in one go: boxes are packed into nodes by sort-tile-recursive order (Leutenegger, Lopez and
// Edgington 1997) and written to the tables that the tree lives in, in the layout that SQLite documents. Inserting one
// box after the other takes ten times as long and packs worse.
#pragma once
#include <cstdint>
#include <vector>

#include "base/sqlite.hpp"

namespace katoptra {

struct BoxEntry {
  std::int64_t id;
  float west, east, south, north;
};
// The tree `name` (made by CREATE VIRTUAL TABLE ... USING rtree(id, west, east, south, north)) must be empty.
void fill_box_tree(Sql& sql, const std::string& name, std::vector<BoxEntry> entries);

}  // namespace katoptra
