#include "katoptra/study/sheets.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <limits>
#include <mutex>
#include <nlohmann/json.hpp>
#include <optional>
#include <set>

#include "katoptra/base/checksum.hpp"
#include "katoptra/base/error.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/catalogue/catalogue.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/version.hpp"

#include "base/json.hpp"
#include "base/ranks.hpp"
#include "formats/writers.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

constexpr std::int64_t kFewestCells = 16;  // along an edge
constexpr std::int64_t kSliver = 8;        // what is left over at the rim goes with the sheet beside it
constexpr double kMostSheets = 100'000;
constexpr std::size_t kLargestItem = 1 << 20, kLargestIndex = 256 << 20;
constexpr const char* kFacts = "katoptra:sheet";

// An edge of a sheet in units of the CRS.
double units_of(const CellEdge& edge, const Crs& crs) {
  const auto* angle = std::get_if<Angle>(&edge);
  if (crs.is_geographic() != (angle != nullptr))
    throw Error(ErrorCode::BadArgument,
                crs.is_geographic() ? fmt::format("a length, but {} counts in degrees", crs.label())
                                    : fmt::format("an angle, but {} does not count in degrees", crs.label()),
                "sheets", crs.is_geographic() ? "say how large a sheet is in degrees: 1deg" : "say a length: 10km");
  const double units = angle ? angle->degrees() : std::get<Length>(edge).metres() / crs.unit_factor();
  if (!(units > 0) || !std::isfinite(units))
    throw Error(ErrorCode::BadArgument, "a sheet must have a size", "sheets", "write for instance 10km");
  return units;
}

struct Stretch {
  std::int64_t number, first, count;  // in edges of a sheet from the origin; in cells of the frame
};

// The stretches between multiples of `edge` along an axis whose cells lie from `low` to `high`, both in its units.
std::vector<Stretch> stretches(double low, double high, double cell, std::int64_t cells, double edge) {
  std::vector<Stretch> out;
  const auto lines = [&](std::int64_t k) -> std::int64_t {
    return std::llround(std::clamp((static_cast<double>(k) * edge - low) / cell, 0.0, static_cast<double>(cells)));
  };
  for (auto k = static_cast<std::int64_t>(std::floor(low / edge)) - 1; static_cast<double>(k) * edge < high; ++k)
    if (const std::int64_t from = lines(k), to = lines(k + 1); to > from) out.push_back({k, from, to - from});
  // A grid of nodes reaches half a cell beyond its degree: that is no sheet of its own.
  if (out.size() > 1 && out[0].count < std::min(kSliver, out[1].count)) {
    out[1].first = 0;
    out[1].count += out[0].count;
    out.erase(out.begin());
  }
  if (out.size() > 1 && out.back().count < std::min(kSliver, out[out.size() - 2].count)) {
    out[out.size() - 2].count += out.back().count;
    out.pop_back();
  }
  return out;
}

std::string side(std::int64_t number, char up, char down) {
  return fmt::format("{}{}", number < 0 ? down : up, std::abs(number));
}

}  // namespace

std::vector<Sheet> sheets_of(const Frame& f, const CellEdge& edge) {
  if (!f.crs())
    throw Error(ErrorCode::Refused, "sheets need a CRS, and this grid has none", "sheets", "tell it with --crs");
  const double units = units_of(edge, f.crs());
  const double cell = std::max(f.cell().x, f.cell().y);
  if (units < static_cast<double>(kFewestCells) * cell)
    throw Error(ErrorCode::BadArgument,
                fmt::format("a sheet would be {:.1f} cells wide, fewer than {}", units / cell, kFewestCells), "sheets",
                "make them larger");
  const Bounds box = f.bounds();
  const double count = std::ceil(box.width() / units) * std::ceil(box.height() / units);
  if (count > kMostSheets)
    throw Error(ErrorCode::BadArgument, fmt::format("some {:.3g} sheets, more than {:.0f}", count, kMostSheets),
                "sheets", "make them larger");
  const std::vector<Stretch> columns = stretches(f.west(), f.east(), f.cell().x, f.cols(), units);
  // Rows of a frame count down from its northern edge.
  std::vector<Stretch> rows = stretches(f.south(), f.north(), f.cell().y, f.rows(), units);
  std::reverse(rows.begin(), rows.end());
  std::vector<Sheet> out;
  for (const Stretch& r : rows)
    for (const Stretch& c : columns)
      out.push_back({side(c.number, 'e', 'w') + "_" + side(r.number, 'n', 's'),
                     {c.first, f.rows() - r.first - r.count, c.count, r.count}});
  return out;
}

namespace {

std::vector<Sheet> sheets_of_part(const Grid& grid, const fs::path& path, const SheetsOptions& options) {
  const Format* format = format_of(path, Holds::Grids, Use::Written);
  if (!format || format->fits_range)
    throw Error(ErrorCode::Unsupported,
                format ? fmt::format("a {} fits its steps to the heights of each file, so its sheets would not meet",
                                     format->name)
                       : "no grids are written under such a name",
                path.string(), "give a name that ends in .tif, .nc or .asc");
  if (options.parts < 1 || options.part < 1 || options.part > options.parts)
    throw Error(ErrorCode::BadArgument, fmt::format("there is no part {} of {}", options.part, options.parts), "part",
                "count parts from 1");
  const std::vector<Sheet> all = sheets_of(grid.frame(), options.edge);
  std::vector<Sheet> mine;
  for (auto i = static_cast<std::size_t>(options.part - 1); i < all.size();
       i += static_cast<std::size_t>(options.parts))
    mine.push_back(all[i]);
  return mine;
}

// What is known of a sheet that is there: its record.
struct Known {
  std::string key;
  std::uint64_t bytes = 0;
  std::int64_t cells = 0, voids = 0;
  std::optional<double> lowest, highest;
  std::string format, compression;
  std::string date;
  bool date_guessed = false;
  std::vector<std::string> notes;
  std::vector<std::int64_t> by_how;
  bool empty() const { return voids == cells; }
};

class Sheets {
 public:
  Sheets(const Grid& grid, const fs::path& path, const SheetsOptions& options)
      : grid_(grid),
        path_(path),
        options_(options),
        all_(sheets_of(grid.frame(), options.edge)),
        mine_(sheets_of_part(grid, path, options)),
        key_(key()) {}

  const std::vector<Sheet>& mine() const { return mine_; }
  // Sheets that were made from something else are told before any is written.
  void refuse_others() const {
    if (options_.write.overwrite) return;
    for (const Sheet& s : mine_) refuse_other(s, record(s));
  }

  SheetsReport write() {
    if (!only_helps()) refuse_others();
    std::error_code ec;
    const bool fresh = !fs::exists(folder().empty() ? "." : folder(), ec);
    // By the first process, which hands out sheets after it: others must not find a folder that they made themselves.
    if (!only_helps()) make_folder(items());
    // What Katoptra made of several files is no survey of its own; in a folder of theirs sheets shall be one.
    if (fresh && options_.survey && !only_helps())
      write_text_file(folder() / "survey.toml",
                      fmt::format("# Sheets of one surface.\nname = {}\nproducts = true\n", json(survey()).dump()),
                      {.overwrite = true});
    SheetsReport report;
    const bool others = work_is_shared();
    share_ordered({.n = mine_.size(),
                   .in_flight = mine_.size() + 1,
                   .at_once = many_at_once() ? std::size_t{0} : std::size_t{1},
                   .options = options_.write.run,
                   .make = [&](std::size_t i) -> std::shared_ptr<void> {
                     const LeavesFiles here;
                     return std::make_shared<bool>(make(i));
                   },
                   .place =
                       [&](std::size_t, const std::shared_ptr<void>& made) {
                         ++(*static_cast<bool*>(made.get()) ? report.made : report.whole_already);
                       },
                   .pack = [](const std::shared_ptr<void>& made) -> std::vector<std::uint8_t> {
                     return {static_cast<std::uint8_t>(*static_cast<bool*>(made.get()))};
                   },
                   .unpack = [](std::span<const std::uint8_t> bytes) -> std::shared_ptr<void> {
                     return std::make_shared<bool>(!bytes.empty() && bytes[0] != 0);
                   }});
    if (others && !only_helps()) make_those_elsewhere();
    tell(report);
    return report;
  }

 private:
  fs::path folder() const { return path_.parent_path(); }
  std::string stem() const { return path_.stem().string(); }
  std::string survey() const { return options_.write.survey.empty() ? stem() : options_.write.survey; }
  fs::path items() const { return folder() / (stem() + ".sheets"); }
  fs::path item(const Sheet& s) const { return items() / (s.name + ".json"); }
  fs::path file(const Sheet& s) const {
    return folder() / fmt::format("{}_{}{}", stem(), s.name, path_.extension().string());
  }

  // Sheets of few tiles do not keep all threads busy, one after another: then each thread makes one.
  bool many_at_once() const {
    constexpr double kTilesEach = 8;
    const WriteOptions& w = options_.write;
    double largest = 0;
    for (const Sheet& s : all_) largest = std::max(largest, static_cast<double>(s.window.cells()));
    return largest < kTilesEach * thread_count(w.run) * w.tile * w.tile;
  }

  // How a file is packed is tried once, on the whole, and not for each of its sheets.
  WriteOptions options_of_a_sheet() const {
    std::call_once(tried_, [&] {
      tried_options_ = with_tried_coding(grid_, path_, options_.write);
      tried_options_.overwrite = true;
      if (many_at_once()) {
        tried_options_.run.memory /= static_cast<std::size_t>(thread_count(options_.write.run));
        tried_options_.run.threads = 1;
      }
    });
    return tried_options_;
  }

  static void make_folder(const fs::path& folder) {
    std::error_code ec;
    fs::create_directories(folder, ec);
    if (!fs::is_directory(folder, ec))
      throw Error(ErrorCode::Io, "is no folder and cannot be made one", folder.string(), "choose another name");
  }

  std::string key() const {
    const Frame& f = grid_.frame();
    const WriteOptions& w = options_.write;
    const std::string text =
        fmt::format("{}\n{}\n{}\n{:.17g} {:.17g} {:.17g} {:.17g} {} {}\n{:.17g} {} {} {} {} {} {} {} {}\n",
                    KATOPTRA_VERSION, options_.made_from, f.crs().file_wkt(), f.west(), f.north(), f.cell().x,
                    f.cell().y, f.cols(), f.rows(), units_of(options_.edge, f.crs()), path_.extension().string(),
                    w.void_value ? fmt::format("{}", *w.void_value) : "", w.lineage, w.uncertainty, w.date, w.survey,
                    static_cast<int>(w.codec), static_cast<int>(w.predictor));
    Sha256 sum;
    sum.add({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()});
    return sum.hex();
  }

  // The record of a sheet, whatever it was made from; nothing where there is none, or none that can be understood.
  std::optional<Known> record(const Sheet& s) const {
    std::error_code ec;
    if (!fs::is_regular_file(item(s), ec)) return std::nullopt;
    try {
      const json j = json::parse(read_text_file(item(s), kLargestItem));
      const json &p = j.at("properties"), &sheet = p.at(kFacts);
      Known k;
      k.key = sheet.at("made_from").get<std::string>();
      k.bytes = sheet.at("bytes").get<std::uint64_t>();
      k.cells = sheet.at("cells").get<std::int64_t>();
      k.voids = sheet.at("voids").get<std::int64_t>();
      if (sheet.contains("lowest")) k.lowest = sheet.at("lowest").get<double>();
      if (sheet.contains("highest")) k.highest = sheet.at("highest").get<double>();
      k.format = word(sheet, "format");
      k.compression = word(sheet, "compression");
      k.date = word(p, "datetime").substr(0, 10);
      k.date_guessed = p.contains("katoptra:date_guessed");
      if (sheet.contains("by_how")) k.by_how = sheet.at("by_how").get<std::vector<std::int64_t>>();
      if (sheet.contains("notes")) k.notes = sheet.at("notes").get<std::vector<std::string>>();
      return k;
    } catch (const std::exception&) {
      return std::nullopt;
    }
  }

  bool is_whole(const Sheet& s, const Known& k) const {
    std::error_code ec;
    if (k.key != key_ || k.cells != s.window.cells()) return false;
    return k.empty() || (fs::is_regular_file(file(s), ec) && fs::file_size(file(s), ec) == k.bytes);
  }

  bool is_own(const std::optional<Known>& k) const { return k && k->key == key_; }
  void refuse_other(const Sheet& s, const std::optional<Known>& k) const {
    std::error_code ec;
    if (!is_own(k) && !options_.write.overwrite && (k || fs::exists(file(s), ec)))
      throw Error(ErrorCode::Io, "is there already, and was made from something else", file(s).string(),
                  "choose another name or say --overwrite");
  }

  // False when it was whole already.
  bool make(std::size_t i) const {
    const Sheet& s = mine_[i];
    const std::optional<Known> before = record(s);
    if (before && is_whole(s, *before)) return false;
    refuse_other(s, before);
    const bool own = is_own(before);
    make_folder(items());
    Known k;
    k.key = key_;
    k.cells = s.window.cells();
    // What cannot be written (it is read for this surface, say) leaves no trace.
    create_file(file(s), {.overwrite = true});
    // From here on the file is known to be of this run, whether or not it is whole. Another process that makes it, too,
    // has said so before.
    if (!own) write_record(s, k, nullptr);
    Progress part([&](double done) { pass_on(i, done); });
    WriteOptions w = options_of_a_sheet();
    w.run.progress = options_.write.run.progress ? &part : nullptr;
    const WriteReport r = write_grid(cut(grid_, s.window), file(s), w);
    k.bytes = r.bytes;
    k.voids = r.voids;
    k.format = r.format;
    k.compression = r.compression;
    k.notes = r.info.notes;
    if (options_.write.lineage) k.by_how.assign(std::begin(r.by_how), std::end(r.by_how));
    if (!k.empty()) {
      k.lowest = r.lowest;
      k.highest = r.highest;
      std::error_code unknown;
      if (const auto size = fs::file_size(file(s), unknown); !unknown) k.bytes = size;
      const TileRecord tile = describe(s);
      write_record(s, k, &tile);
    } else {
      remove_file(r);
      k.bytes = 0;
      write_record(s, k, nullptr);
    }
    return true;
  }

  // What another process made on a disk that is not this one is made once more, here.
  void make_those_elsewhere() {
    std::int64_t elsewhere = 0;
    for (std::size_t i = 0; i < mine_.size(); ++i) {
      const std::optional<Known> k = record(mine_[i]);
      if (k && is_whole(mine_[i], *k)) continue;
      make(i);
      ++elsewhere;
    }
    if (elsewhere > 0)
      notes_.push_back(fmt::format(
          "{} sheets were made by other processes on a disk that is not this one, and once more here", elsewhere));
  }

  void pass_on(std::size_t i, double done) const {
    options_.write.run.progress->check();
    // Processes that share sheets count those that are whole.
    if (WithinWork::now()) return;
    options_.write.run.progress->report((static_cast<double>(i) + done) / static_cast<double>(mine_.size()));
  }

  TileRecord describe(const Sheet& s) const {
    TileRecord tile = describe_tile(file(s));
    tile.survey = survey();
    // Made of others, but published as a survey of its own.
    tile.joined = 0;
    tile.made_from.clear();
    return tile;
  }

  static void remove_file(const WriteReport& r) {
    std::error_code ec;
    fs::remove(r.path, ec);
    for (const fs::path& beside : r.beside) fs::remove(beside, ec);
    if (r.lineage_path.empty()) return;
    fs::remove(r.lineage_path, ec);
    fs::remove(fs::path(r.lineage_path).replace_extension(".csv"), ec);
  }

  void write_record(const Sheet& s, const Known& k, const TileRecord* tile) const {
    ordered_json j = tile ? ordered_json::parse(item_of_tile(*tile, {.self = s.name + ".json",
                                                                     .root = "collection.json",
                                                                     .parent = "collection.json",
                                                                     .collection = "collection.json",
                                                                     .collection_id = survey_id(survey()),
                                                                     .href = "../" + file(s).filename().string()}))
                          : ordered_json{{"id", s.name}, {"properties", ordered_json::object()}};
    ordered_json facts = {{"made_from", k.key}, {"bytes", k.bytes}, {"cells", k.cells}, {"voids", k.voids}};
    // A sheet that was begun has no voids yet and no bytes: no file has that size.
    if (k.lowest) facts["lowest"] = *k.lowest;
    if (k.highest) facts["highest"] = *k.highest;
    if (!k.format.empty()) facts["format"] = k.format;
    if (!k.compression.empty()) facts["compression"] = k.compression;
    if (!k.by_how.empty()) facts["by_how"] = k.by_how;
    if (!k.notes.empty()) facts["notes"] = k.notes;
    j["properties"][kFacts] = std::move(facts);
    write_text_file(item(s), j.dump(-1, ' ', false, ordered_json::error_handler_t::replace) + "\n",
                    {.overwrite = true});
  }

  // Of all sheets that are there, whichever run made them; index and collection when none is missing.
  void tell(SheetsReport& r) const {
    r.sheets = all_;
    r.info = grid_.info();
    r.info.notes.insert(r.info.notes.end(), notes_.begin(), notes_.end());
    r.lowest = std::numeric_limits<double>::infinity();
    r.highest = -r.lowest;
    std::vector<std::pair<const Sheet*, Known>> there;
    for (const Sheet& s : all_) {
      std::optional<Known> k = record(s);
      if (!k || !is_whole(s, *k)) {
        ++r.missing;
        continue;
      }
      r.cells += k->cells;
      r.voids += k->voids;
      r.bytes += k->bytes;
      for (std::size_t i = 0; i < std::min(std::size(r.by_how), k->by_how.size()); ++i) r.by_how[i] += k->by_how[i];
      r.lowest = std::min(r.lowest, k->lowest.value_or(r.lowest));
      r.highest = std::max(r.highest, k->highest.value_or(r.highest));
      if (r.format.empty()) r.format = k->format, r.compression = k->compression;
      for (const std::string& n : k->notes)
        if (std::find(r.info.notes.begin(), r.info.notes.end(), n) == r.info.notes.end()) r.info.notes.push_back(n);
      if (k->empty())
        ++r.without_value;
      else
        there.emplace_back(&s, std::move(*k));
    }
    if (!(r.lowest <= r.highest)) r.lowest = r.highest = std::nan("");
    if (only_helps() || r.missing > 0) return;
    note_others(r);
    if (there.empty()) return;
    r.index = folder() / (stem() + ".sheets.geojson");
    const fs::path draft = items() / "index.geojson";
    write_layer(index(there), draft, {.overwrite = true});
    leave(r.index, read_text_file(draft, kLargestIndex));
    std::error_code ec;
    fs::remove(draft, ec);
    r.collection = items() / "collection.json";
    leave(r.collection, collection(there));
  }

  // What says the same already stays as it is, with its time: others are made from it, and would be made again.
  static void leave(const fs::path& path, const std::string& text) {
    std::error_code ec;
    if (fs::is_regular_file(path, ec) && fs::file_size(path, ec) == text.size() &&
        read_text_file(path, kLargestIndex) == text)
      return;
    write_text_file(path, text, {.overwrite = true});
  }

  Layer index(const std::vector<std::pair<const Sheet*, Known>>& there) const {
    const Frame& f = grid_.frame();
    const Quantity& q = grid_.quantity();
    // With its place in the whole: by this an index opens as a grid.
    Layer layer{.name = stem() + " sheets", .crs = f.crs().with_heights({}), .features = {}};
    for (const auto& [s, k] : there)
      layer.features.push_back({MultiPolygon{to_polygon(f.sub(s->window).bounds())},
                                {{"role", std::string("tile")},
                                 {"kept", std::int64_t{1}},
                                 {"sheet", s->name},
                                 {"path", file(*s).filename().string()},
                                 {"survey", survey()},
                                 {"date", k.date},
                                 {"date_guessed", std::int64_t{k.date_guessed}},
                                 {"bytes", static_cast<std::int64_t>(k.bytes)},
                                 {"col", s->window.col},
                                 {"row", s->window.row},
                                 {"cols", s->window.cols},
                                 {"rows", s->window.rows},
                                 {"all_cols", f.cols()},
                                 {"all_rows", f.rows()},
                                 {"cells", k.cells},
                                 {"voids", k.voids},
                                 {"lowest", k.lowest.value_or(0)},
                                 {"highest", k.highest.value_or(0)},
                                 {"crs", f.crs().label()},
                                 {"heights", q.heights.known() ? q.heights.name() : std::string()},
                                 {"unit", std::string(q.unit_known ? symbol(q.unit) : "")}}});
    return layer;
  }

  std::string collection(const std::vector<std::pair<const Sheet*, Known>>& there) const {
    std::vector<TileRecord> tiles;
    for (const auto& [s, k] : there) {
      TileRecord t;
      t.survey = survey();
      t.date = k.date;
      t.frame = grid_.frame().sub(s->window);
      tiles.push_back(std::move(t));
    }
    std::vector<const TileRecord*> each;
    for (const TileRecord& t : tiles) each.push_back(&t);
    ordered_json c = ordered_json::parse(
        collection_of_survey(survey_id(survey()), each, {.self = "collection.json", .root = "collection.json"}));
    for (const auto& [s, k] : there)
      c["links"].push_back({{"rel", "item"}, {"href", s->name + ".json"}, {"type", "application/geo+json"}});
    return c.dump(1, ' ', false, ordered_json::error_handler_t::replace) + "\n";
  }

  // Sheets of another size, or of a larger area, that an earlier run left here: they are not part of this surface.
  void note_others(SheetsReport& r) const {
    std::set<std::string> own{"collection"};
    for (const Sheet& s : all_) own.insert(s.name);
    std::int64_t others = 0;
    std::error_code ec;
    for (auto it = fs::directory_iterator(items(), ec); !ec && it != fs::directory_iterator(); it.increment(ec))
      others += it->path().extension() == ".json" && !own.contains(it->path().stem().string());
    if (others > 0)
      r.info.notes.push_back(
          fmt::format("{} sheet{} of another run lie{} in the folder, too: the index leaves them out", others,
                      others == 1 ? "" : "s", others == 1 ? "s" : ""));
  }

  const Grid& grid_;
  fs::path path_;
  const SheetsOptions& options_;
  std::vector<Sheet> all_, mine_;
  std::string key_;
  std::vector<std::string> notes_;
  mutable std::once_flag tried_;
  mutable WriteOptions tried_options_;
};

}  // namespace

bool sheets_are_there(const fs::path& index) {
  std::error_code ec;
  if (!fs::is_regular_file(index, ec)) return false;
  try {
    const Layer sheets = read_layer(index);
    return !sheets.features.empty() &&
           std::all_of(sheets.features.begin(), sheets.features.end(), [&](const Feature& f) {
             const Property *name = property_of(f, "path"), *bytes = property_of(f, "bytes");
             if (!name || !bytes) return false;
             const fs::path file = index.parent_path() / text_of(*name);
             std::error_code gone;
             return fs::is_regular_file(file, gone) && std::to_string(fs::file_size(file, gone)) == text_of(*bytes);
           });
  } catch (const Error&) {
    return false;
  }
}

std::vector<Sheet> planned_sheets(const Grid& grid, const fs::path& path, const SheetsOptions& options) {
  const Sheets sheets(grid, path, options);
  sheets.refuse_others();
  return sheets.mine();
}

SheetsReport write_sheets(const Grid& grid, const fs::path& path, const SheetsOptions& options) {
  return Sheets(grid, path, options).write();
}

}  // namespace katoptra
