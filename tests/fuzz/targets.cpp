#include "targets.hpp"

#include <algorithm>
#include <cstdlib>
#include <vector>

#include "katoptra/base/error.hpp"
#include "katoptra/catalogue/find.hpp"
#include "katoptra/check/control.hpp"
#include "katoptra/formats/archive.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/formats/xyz.hpp"
#include "katoptra/grid/cache.hpp"
#include "katoptra/study/judgements.hpp"

#include "base/csv.hpp"
#include "catalogue/item_scan.hpp"
#include "catalogue/stac_json.hpp"
#include "formats/las/las_source.hpp"
#include "formats/readers.hpp"
#include "formats/text/text_points.hpp"
#include "formats/vector/geojson.hpp"
#include "formats/vector/gpx.hpp"
#include "search.hpp"

namespace katoptra::fuzz {
namespace {

using Bytes = std::span<const std::uint8_t>;

std::shared_ptr<ByteSource> memory(const std::string& name, Bytes data) {
  return bytes_in_memory(name, {data.begin(), data.end()});
}

// Opens a grid and reads its corners and its middle.
void open_and_read(const Located& file, const OpenOptions& options = {}) {
  try {
    const GridFile f = open_grid_file(file, "fuzz/" + file.name, options);
    const Window all = f.grid.frame().window();
    for (const auto& [c, r] :
         {std::pair<std::int64_t, std::int64_t>{0, 0}, {all.cols / 2, all.rows / 2}, {all.cols - 1, all.rows - 1}}) {
      const Window w = Window{c - 4, r - 4, 40, 9}.intersected(all);
      // Wide formats decode whole rows: a row of a gigabyte is the header's fault, not worth the fuzzer's time.
      if (all.cols > (1 << 22)) return;
      f.grid.read(w, Planes::All);
    }
  } catch (const Error&) {
  }
}

Located alone(const std::string& name, Bytes data) {
  Located l;
  l.bytes = memory(name, data);
  l.name = name;
  l.beside = [](const std::string&) { return nullptr; };
  return l;
}

// LAS, LAZ and COPC: whole, and by the octree where there is one.
void las_points(Bytes data) {
  for (const double spacing : {0.0, 1.0}) try {
      const PointFile f =
          las::open_las(memory("a.laz", data),
                        {.open = {}, .area = nullptr, .spacing = Length::metres(spacing), .salvage = spacing > 0});
      std::uint64_t points = 0;
      for (std::size_t i = 0; i < f.cloud.parts() && points < 200'000; ++i) {
        points += f.cloud.part(i).count;
        if (points < 2'000'000) f.cloud.read(i);
      }
    } catch (const Error&) {
    }
}

void text_points(Bytes data) {
  if (data.empty()) return;
  try {
    const PointFile f = open_text_points(memory("a.csv", data), {});
    for (std::size_t i = 0; i < f.cloud.parts(); ++i) f.cloud.read(i);
  } catch (const Error&) {
  }
}

// Header, JSON and data, parted by zero bytes.
void flat(Bytes data) {
  const auto first = std::find(data.begin(), data.end(), 0),
             second = first == data.end() ? first : std::find(first + 1, data.end(), 0);
  if (second == data.end() || second + 1 == data.end()) return;
  Located l = alone("a.bil", {second + 1, data.end()});
  const std::vector<std::uint8_t> header(data.begin(), first), json(first + 1, second);
  l.beside = [=](const std::string& name) -> std::shared_ptr<ByteSource> {
    if (name == "a.hdr" && !header.empty()) return bytes_in_memory(name, header);
    if (name == "a.json" && !json.empty()) return bytes_in_memory(name, json);
    return nullptr;
  };
  open_and_read(l);
}

void archive(Bytes data) {
  if (data.empty()) return;
  try {
    auto bytes = memory("a.zip", data);
    if (!Archive::is_archive(*bytes)) return;
    const auto a = Archive::open(bytes);
    int count = 0;
    for (const ArchiveEntry& e : a->entries()) {
      if (++count > 8) break;
      const auto entry = a->open_entry(e.name);
      std::vector<std::uint8_t> head(64);
      entry->read_at(0, head);
    }
  } catch (const Error&) {
  }
}

void csv(Bytes data) { parse_csv(std::string_view(reinterpret_cast<const char*>(data.data()), data.size())); }

std::string_view text_of(Bytes data);

// Waypoints, and the control points that they may be.
void gpx(Bytes data) {
  try {
    control_from(parse_gpx(text_of(data), "a.gpx"));
  } catch (const Error&) {
  }
}

void layer(Bytes data) {
  try {
    parse_geojson(text_of(data), "a.geojson");
  } catch (const Error&) {
  }
}

void correction(Bytes data) {
  try {
    read_correction(std::string(text_of(data)), "found.json");
  } catch (const Error&) {
  }
}

std::string_view text_of(Bytes data) { return {reinterpret_cast<const char*>(data.data()), data.size()}; }

// Items of a remote catalogue, through the choice and back into items, which must be items again.
void judge(const std::vector<TileRecord>& tiles) {
  static const Area area = Area::box({-31.05, -37.6, -30.95, -37.5});
  Catalogue c;
  for (const TileRecord& t : tiles) {
    c.tiles.push_back(t);
    const std::string again = item_of_tile(t, {.href = t.path.string()});
    if (tiles_of_item(again, {}).empty()) std::abort();
    // Nothing from a web address is a file of this machine.
    if (t.untrusted.empty() && !t.remote()) std::abort();
  }
  find_tiles(c, area);
}

void stac(Bytes data) {
  const ItemContext context{.base = "http://host/c/items/a.json", .hosts = {}, .survey = nullptr};
  try {
    judge(tiles_of_item(text_of(data), context));
  } catch (const Error&) {
  }
  try {
    survey_of_collection(text_of(data));
  } catch (const Error&) {
  }
}

void items(Bytes data) {
  try {
    for_each_item_batch(*memory("items.json", data), 1 + data.size() / 3,
                        [](auto, std::vector<std::string_view> batch) {
                          for (std::string_view item : batch) try {
                              keys_of_item(item, "items");
                            } catch (const Error&) {
                            }
                        });
  } catch (const Error&) {
  }
}

void search(Bytes data) {
  static const nlohmann::json item = nlohmann::json::parse(
      R"({"id": "a", "collection": "c", "properties": {"datetime": "2022-03-14T00:00:00Z", "gsd": 1},
          "geometry": {"type": "Polygon", "coordinates": [[[0, 0], [1, 0], [1, 1], [0, 1], [0, 0]]]}})");
  try {
    parse_item_search(parse_json(text_of(data), "search"), 100).matches(item);
  } catch (const Error&) {
  }
}

void area(Bytes data) {
  try {
    std::vector<std::string> notes;
    parse_area(text_of(data), &notes);
  } catch (const Error&) {
  }
}

}  // namespace

const std::map<std::string, Target>& targets() {
  static const std::map<std::string, Target> all = [] {
    std::map<std::string, Target> t = {{"flat", flat},      {"archive", archive},       {"csv", csv},
                                       {"gpx", gpx},        {"correction", correction}, {"stac", stac},
                                       {"items", items},    {"search", search},         {"area", area},
                                       {"las", las_points}, {"geojson", layer},         {"text_points", text_points}};
    // Every other format of grids by its row of the table, under a name that it knows.
    for (const Format& f : formats())
      if (f.holds(Holds::Grids, Use::Read) && !t.count(f.key))
        t[f.key] = [name = f.key == "hgt" ? f.damaged.name : "a" + f.endings[0]](Bytes data) {
          if (!data.empty()) open_and_read(alone(name, data));
        };
    return t;
  }();
  return all;
}

}  // namespace katoptra::fuzz
