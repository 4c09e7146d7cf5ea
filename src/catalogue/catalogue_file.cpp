// A catalogue kept in one SQLite file: items with the keys that filters ask for, their documents as they came, and an
// R*Tree over their boxes. A folder is listed again by name, size and time, and only files that changed are opened. A
// search asks the tree for each turn of the globe, then the exact footprints decide. Many new boxes are packed into a
// new tree at once (box_tree.cpp): putting a million in one by one takes minutes. A file of another version is
// refused.
#include "katoptra/catalogue/catalogue_file.hpp"

#include <chrono>
#include <cmath>
#include <fmt/format.h>
#include <iterator>
#include <map>
#include <set>

#include "katoptra/base/parallel.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/http.hpp"

#include "base/sqlite.hpp"
#include "box_tree.hpp"
#include "folder.hpp"
#include "item_scan.hpp"
#include "stac_json.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

constexpr std::int64_t kApplication = 0x4b746c67, kVersion = 2;
// Fewer boxes than this are put into the tree one by one; more, and the tree is packed anew.
constexpr std::size_t kFewBoxes = 2000;
constexpr std::size_t kBatch = std::size_t{4} << 20;

BoxEntry entry_of(std::int64_t id, const ItemKeys& k) { return {id, k.west, k.east, k.south, k.north}; }

double seconds_since(std::chrono::steady_clock::time_point start) {
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

}  // namespace

struct CatalogueFile::Impl {
  explicit Impl(const fs::path& path) : sql(path) {
    // A killed program leaves the file whole; only a machine that loses power may spoil it, and then it is made anew.
    sql.run("PRAGMA synchronous = OFF");
    sql.run("PRAGMA cache_size = -65536");
    const bool fresh = sql.claim(kApplication, "catalogue");
    if (!fresh) {
      auto version = sql.query("PRAGMA user_version");
      version.step();
      if (version.integer(0) != kVersion)
        throw Error(ErrorCode::Unsupported, fmt::format("is a catalogue of version {}", version.integer(0)),
                    path.string(), "make it anew");
      return;
    }
    sql.run(fmt::format("PRAGMA user_version = {}", kVersion));
    SqlTransaction t(sql);
    sql.run("CREATE TABLE source(id INTEGER PRIMARY KEY, location TEXT UNIQUE NOT NULL)");
    sql.run(
        "CREATE TABLE survey(source INTEGER NOT NULL, id TEXT NOT NULL, document TEXT NOT NULL, "
        "PRIMARY KEY(source, id))");
    sql.run(
        "CREATE TABLE file(source INTEGER NOT NULL, name TEXT NOT NULL, stamp TEXT NOT NULL, "
        "PRIMARY KEY(source, name)) WITHOUT ROWID");
    sql.run(
        "CREATE TABLE item(id INTEGER PRIMARY KEY, source INTEGER NOT NULL, file TEXT, survey TEXT, "
        "placed INTEGER NOT NULL, document TEXT NOT NULL)");
    sql.run("CREATE INDEX lost ON item(id) WHERE placed = 0");
    make_tree();
    t.commit();
  }

  void make_tree() { sql.run("CREATE VIRTUAL TABLE box USING rtree(id, west, east, south, north)"); }

  std::int64_t source_id(const std::string& location) {
    sql.query("INSERT OR IGNORE INTO source(location) VALUES (?1)").bind(1, std::string_view(location)).run();
    auto q = sql.query("SELECT id FROM source WHERE location = ?1");
    q.bind(1, std::string_view(location)).step();
    return q.integer(0);
  }

  std::size_t count(const std::string& what) const {
    auto q = sql.query("SELECT count(*) FROM " + what);
    q.step();
    return static_cast<std::size_t>(q.integer(0));
  }

  std::size_t forget_source(std::int64_t source) {
    const std::size_t n = count(fmt::format("item WHERE source = {}", source));
    if (n == 0) return 0;
    if (n == count("item")) {
      sql.run("DROP TABLE box");
      make_tree();
    } else {
      sql.run(fmt::format("DELETE FROM box WHERE id IN (SELECT id FROM item WHERE source = {})", source));
    }
    sql.run(fmt::format("DELETE FROM item WHERE source = {}", source));
    sql.run(fmt::format("DELETE FROM survey WHERE source = {}", source));
    return n;
  }

  void add_boxes(std::vector<BoxEntry> boxes) {
    const std::size_t there = count("box");
    if (boxes.size() < kFewBoxes) {
      auto add = sql.query("INSERT INTO box VALUES (?1, ?2, ?3, ?4, ?5)");
      for (const BoxEntry& b : boxes)
        add.bind(1, b.id)
            .bind(2, static_cast<double>(b.west))
            .bind(3, static_cast<double>(b.east))
            .bind(4, static_cast<double>(b.south))
            .bind(5, static_cast<double>(b.north))
            .run();
      return;
    }
    if (there > 0) {
      auto all = sql.query("SELECT id, west, east, south, north FROM box");
      while (all.step())
        boxes.push_back({all.integer(0), static_cast<float>(all.real(1)), static_cast<float>(all.real(2)),
                         static_cast<float>(all.real(3)), static_cast<float>(all.real(4))});
      all.reset();
      sql.run("DROP TABLE box");
      make_tree();
    }
    fill_box_tree(sql, "box", std::move(boxes));
  }

  std::int64_t next_item() const {
    auto q = sql.query("SELECT coalesce(max(id), 0) + 1 FROM item");
    q.step();
    return q.integer(0);
  }

  // A writer of items that counts their numbers on.
  class Writer {
   public:
    Writer(Impl& impl, std::int64_t source)
        : next_(impl.next_item()),
          source_(source),
          add_(impl.sql.query(
              "INSERT INTO item(id, source, file, survey, placed, document) VALUES (?1, ?2, ?3, ?4, ?5, ?6)")) {}
    void add(const ItemKeys& keys, std::string_view file, std::string_view document) {
      add_.bind(1, next_).bind(2, source_).bind(3, file).bind(4, std::string_view(keys.collection));
      add_.bind(5, std::int64_t{keys.placed}).bind(6, document).run();
      if (keys.placed) boxes.push_back(entry_of(next_, keys));
      ++next_;
    }
    std::vector<BoxEntry> boxes;

   private:
    std::int64_t next_, source_;
    SqlQuery add_;
  };

  void add_survey(std::int64_t source, const SurveyRecord& s) {
    sql.query("INSERT OR REPLACE INTO survey VALUES (?1, ?2, ?3)")
        .bind(1, source)
        .bind(2, std::string_view(s.id))
        .bind(3, std::string_view(s.document))
        .run();
  }

  Sql sql;
};

CatalogueFile::CatalogueFile(const fs::path& path) : impl_(std::make_unique<Impl>(path)) {}
CatalogueFile::~CatalogueFile() = default;
CatalogueFile::CatalogueFile(CatalogueFile&&) noexcept = default;

bool CatalogueFile::is_one(const fs::path& path) {
  std::error_code ec;
  if (!fs::is_regular_file(path, ec) || fs::file_size(path, ec) < 100) return false;
  const auto head = open_file(path)->head(72);
  if (head.size() < 72 || std::string_view(reinterpret_cast<const char*>(head.data()), 15) != "SQLite format 3")
    return false;
  std::int64_t id = 0;
  for (std::size_t i = 68; i < 72; ++i) id = id << 8 | head[i];
  return id == kApplication;
}

std::size_t CatalogueFile::size() const { return impl_->count("item"); }

CatalogueUpdate CatalogueFile::refresh_folder(const fs::path& folder, const RunOptions& run) {
  const auto start = std::chrono::steady_clock::now();
  const FolderListing listing = list_folder(folder);
  Impl& im = *impl_;
  SqlTransaction transaction(im.sql);
  const std::string location = fs::absolute(folder).lexically_normal().string();
  const std::int64_t source = im.source_id(location);
  std::map<std::string, std::string> known;
  auto files = im.sql.query("SELECT name, stamp FROM file WHERE source = ?1");
  for (files.bind(1, source); files.step();) known[files.text(0)] = files.text(1);
  files.reset();
  CatalogueUpdate report;
  std::vector<const FolderFile*> anew;
  std::vector<std::string> names, gone;
  for (const FolderFile& f : listing.files) {
    const std::string name = f.path.lexically_relative(folder).generic_string();
    const auto k = known.find(name);
    if (k == known.end() || k->second != f.stamp) {
      anew.push_back(&f);
      names.push_back(name);
      if (k != known.end()) gone.push_back(name);
    }
    if (k != known.end()) known.erase(k);
  }
  for (const auto& [name, stamp] : known) gone.push_back(name);
  report.removed = known.size();
  report.read = anew.size();
  auto forget_box = im.sql.query("DELETE FROM box WHERE id IN (SELECT id FROM item WHERE source = ?1 AND file = ?2)");
  auto forget_item = im.sql.query("DELETE FROM item WHERE source = ?1 AND file = ?2");
  auto forget_file = im.sql.query("DELETE FROM file WHERE source = ?1 AND name = ?2");
  for (const std::string& name : gone)
    for (SqlQuery* q : {&forget_box, &forget_item, &forget_file})
      q->bind(1, source).bind(2, std::string_view(name)).run();
  std::vector<std::vector<TileRecord>> found(anew.size());
  parallel_for(anew.size(), run, [&](std::size_t i) { found[i] = tiles_in_file(*anew[i]); });
  Impl::Writer writer(im, source);
  auto add_file = im.sql.query("INSERT INTO file VALUES (?1, ?2, ?3)");
  for (std::size_t i = 0; i < anew.size(); ++i) {
    add_file.bind(1, source).bind(2, std::string_view(names[i])).bind(3, std::string_view(anew[i]->stamp)).run();
    for (const TileRecord& t : found[i]) {
      const std::string item = item_of_tile(t, {.href = t.path.lexically_relative(folder).generic_string()});
      writer.add(keys_of_item(item, location), names[i], item);
    }
  }
  im.add_boxes(std::move(writer.boxes));
  transaction.commit();
  report.items = im.count(fmt::format("item WHERE source = {}", source));
  report.seconds = seconds_since(start);
  return report;
}

CatalogueUpdate CatalogueFile::add_items(const fs::path& path, const RunOptions& run) {
  const auto start = std::chrono::steady_clock::now();
  Impl& im = *impl_;
  const auto file = open_file(path);
  SqlTransaction transaction(im.sql);
  const std::string location = fs::absolute(path).lexically_normal().string();
  const std::int64_t source = im.source_id(location);
  CatalogueUpdate report;
  report.removed = im.forget_source(source);
  Impl::Writer writer(im, source);
  // Batches are parsed on all cores while the ones before them are written.
  struct Batch {
    std::shared_ptr<const std::string> text;
    std::vector<std::string_view> items;
    std::vector<ItemKeys> keys;
  };
  std::vector<std::shared_ptr<Batch>> waiting;
  auto flush = [&] {
    parallel_ordered(
        waiting.size(), 4, run,
        [&](std::size_t i) -> std::shared_ptr<void> {
          Batch& b = *waiting[i];
          for (std::string_view item : b.items) b.keys.push_back(keys_of_item(item, location));
          return waiting[i];
        },
        [&](std::size_t i, std::shared_ptr<void>) {
          Batch& b = *waiting[i];
          for (std::size_t k = 0; k < b.items.size(); ++k) writer.add(b.keys[k], {}, b.items[k]);
          report.items += b.items.size();
          waiting[i].reset();
        });
    waiting.clear();
  };
  for_each_item_batch(*file, kBatch, [&](std::shared_ptr<const std::string> text, std::vector<std::string_view> items) {
    waiting.push_back(std::make_shared<Batch>(Batch{std::move(text), std::move(items), {}}));
    if (waiting.size() == 16) flush();
  });
  flush();
  report.read = report.items;
  im.add_boxes(std::move(writer.boxes));
  transaction.commit();
  report.seconds = seconds_since(start);
  return report;
}

CatalogueUpdate CatalogueFile::add(const std::string& given, const Catalogue& catalogue) {
  const auto start = std::chrono::steady_clock::now();
  Impl& im = *impl_;
  SqlTransaction transaction(im.sql);
  const std::string location = is_url(given) ? given : fs::absolute(given).lexically_normal().string();
  const std::int64_t source = im.source_id(location);
  CatalogueUpdate report;
  report.removed = im.forget_source(source);
  Impl::Writer writer(im, source);
  for (const SurveyRecord& s : catalogue.surveys) im.add_survey(source, s);
  for (const TileRecord& t : catalogue.tiles) {
    const std::string href = t.remote() ? t.path.string() : fs::absolute(t.path).lexically_normal().string();
    const std::string item = item_of_tile(t, {.href = href});
    writer.add(keys_of_item(item, location), {}, item);
  }
  report.items = report.read = catalogue.tiles.size();
  im.add_boxes(std::move(writer.boxes));
  transaction.commit();
  report.seconds = seconds_since(start);
  return report;
}

Catalogue CatalogueFile::search(const CatalogueQuery& query, const CatalogueOptions& options) const {
  const Impl& im = *impl_;
  Catalogue out;
  std::map<std::int64_t, std::string> location;
  auto sources = im.sql.query("SELECT id, location FROM source");
  while (sources.step()) location[sources.integer(0)] = sources.text(1);
  std::map<std::pair<std::int64_t, std::string>, SurveyRecord> surveys;
  auto documents = im.sql.query("SELECT source, id, document FROM survey");
  while (documents.step()) surveys[{documents.integer(0), documents.text(1)}] = survey_of_collection(documents.text(2));
  for (const auto& [key, s] : surveys) out.surveys.push_back(s);
  std::set<std::int64_t> seen;
  auto take = [&](const SqlQuery& row) {
    if (!seen.insert(row.integer(0)).second) return;
    std::string base = location[row.integer(1)];
    // Names inside a folder count from the folder, not from its parent.
    if (!is_url(base) && fs::is_directory(base)) base += "/";
    const auto survey = surveys.find({row.integer(1), row.text(2)});
    ItemContext context{base, options.hosts, survey == surveys.end() ? nullptr : &survey->second};
    try {
      auto tiles = tiles_of_item(row.text(3), context);
      std::move(tiles.begin(), tiles.end(), std::back_inserter(out.tiles));
    } catch (const Error& e) {
      // One bad item does not hide the others.
      if (e.code() != ErrorCode::BadFile) throw;
      if (out.notes.size() < 20) out.notes.push_back(e.what());
    }
  };
  const std::string columns = "SELECT i.id, i.source, i.survey, i.document FROM ";
  if (query.area) {
    const Bounds box = query.area->in(Crs::wgs84()).bounds();
    auto q = im.sql.query(columns +
                          "box b JOIN item i ON i.id = b.id WHERE b.west <= ?1 AND b.east >= ?2 AND "
                          "b.south <= ?3 AND b.north >= ?4");
    for (double turn : {0.0, -360.0, 360.0}) {
      q.bind(1, box.east + turn).bind(2, box.west + turn).bind(3, box.north).bind(4, box.south);
      while (q.step()) take(q);
      q.reset();
    }
    auto lost = im.sql.query(columns + "item i WHERE i.placed = 0");
    while (lost.step()) take(lost);
  } else {
    auto all = im.sql.query(columns + "item i ORDER BY i.id");
    while (all.step()) take(all);
  }
  std::stable_sort(out.tiles.begin(), out.tiles.end(),
                   [](const TileRecord& a, const TileRecord& b) { return a.path < b.path; });
  return out;
}

}  // namespace katoptra
