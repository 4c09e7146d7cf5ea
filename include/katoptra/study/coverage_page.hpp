// What covers an area, as a page for a browser: footprints on a map, tiles with their facts and the reasons for the
// choice, gaps, filters, tiles kept or dropped by hand, and the shortlist to take along.
//
//   const Shortlist s = find_tiles(read_catalogue("surveys", {.area = &area}), area);
//   write_text_file("coverage.html", coverage_page({.shortlist = s, .searched = {"surveys"}, .area = "area.geojson"}));
//
// One file without network, as surface_page. A service that shows the page at its own address gives it live answers
// (`live`): while an area is drawn the page asks it with the area's text, and gets coverage_json back.
#pragma once
#include <string>
#include <vector>

#include "katoptra/catalogue/find.hpp"
#include "katoptra/catalogue/orders.hpp"

namespace katoptra {

// The answer of `find --json`: coverage, surveys, tiles, gaps, notes.
std::string shortlist_json(const Shortlist& s);

// The same with what a page needs besides: outlines of tiles, the area, lines for a shortlist file. No spaces, and
// nothing in it can end an element of a page.
std::string coverage_json(const Shortlist& s);

struct CoveragePage {
  Shortlist shortlist;
  std::vector<std::string> searched;  // as given to find: --in
  std::string area;                   // as given: --area; empty: none yet
  std::string title = "What covers the area";
  std::vector<Order> orders = {};  // what was ordered and fetched before; drawn as a layer of its own
  std::string live = {};           // the address that answers while an area is drawn; empty: a page by itself
  // Grids on this machine for the relief below, where the tiles of the shortlist are told by other addresses.
  std::vector<TileRecord> local = {};
  RunOptions run = {};
};

struct LivePage {
  std::string html;
  std::string policy;  // Content-Security-Policy, for the header of the answer
};
// Draws the coarsest of its grids that lie on this machine, shaded, below the outlines.
LivePage coverage_live_page(const CoveragePage& page);
std::string coverage_page(const CoveragePage& page);

}  // namespace katoptra
