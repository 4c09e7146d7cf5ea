// GeoPackage 1.2 (OGC 12-128r14): one feature table in an SQLite file. Written in memory and put in place whole.
#include "geopackage.hpp"

#include <algorithm>
#include <cstring>
#include <fmt/format.h>
#include <map>
#include <memory>
#include <set>
#include <sqlite3.h>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/bytes.hpp"

#include "base/text.hpp"

namespace katoptra {
namespace {

struct CloseDatabase {
  void operator()(sqlite3* d) const { sqlite3_close(d); }
};
struct Finalize {
  void operator()(sqlite3_stmt* s) const { sqlite3_finalize(s); }
};
using Database = std::unique_ptr<sqlite3, CloseDatabase>;
using Statement = std::unique_ptr<sqlite3_stmt, Finalize>;

[[noreturn]] void fail(sqlite3* d, const std::string& file) {
  throw Error(ErrorCode::BadFile, fmt::format("is not a readable GeoPackage: {}", sqlite3_errmsg(d)), file,
              "fetch it again, or check what it is");
}

Statement prepare(sqlite3* d, const std::string& sql, const std::string& file) {
  sqlite3_stmt* s = nullptr;
  if (sqlite3_prepare_v2(d, sql.c_str(), -1, &s, nullptr) != SQLITE_OK) fail(d, file);
  return Statement(s);
}

void execute(sqlite3* d, const std::string& sql, const std::string& file) {
  if (sqlite3_exec(d, sql.c_str(), nullptr, nullptr, nullptr) != SQLITE_OK) fail(d, file);
}

std::string sql_name(const std::string& name) {
  std::string s = "\"";
  for (char c : name) s += c == '"' ? std::string("\"\"") : std::string(1, c);
  return s + "\"";
}

// ---- well-known binary

class WkbWriter {
 public:
  void geometry(const Feature& f) {
    if (const auto* p = std::get_if<Point>(&f.geometry)) {
      head(1);
      point(*p);
    } else if (const auto* line = std::get_if<LineString>(&f.geometry)) {
      head(2);
      points(*line);
    } else {
      const auto& shape = std::get<MultiPolygon>(f.geometry);
      head(6);
      u32(static_cast<std::uint32_t>(shape.size()));
      for (const Polygon& part : shape) {
        head(3);
        u32(static_cast<std::uint32_t>(1 + part.holes.size()));
        points(part.outer);
        for (const Ring& hole : part.holes) points(hole);
      }
    }
  }
  void u32(std::uint32_t v) { raw(&v, 4); }
  void raw(const void* data, std::size_t n) {
    bytes.insert(bytes.end(), static_cast<const std::uint8_t*>(data), static_cast<const std::uint8_t*>(data) + n);
  }
  std::vector<std::uint8_t> bytes;

 private:
  void head(std::uint32_t type) {
    bytes.push_back(1);
    u32(type);
  }
  void point(Point p) {
    raw(&p.x, 8);
    raw(&p.y, 8);
  }
  void points(const LineString& line) {
    u32(static_cast<std::uint32_t>(line.size()));
    for (Point p : line) point(p);
  }
};

class WkbReader {
 public:
  WkbReader(const std::uint8_t* data, std::size_t n, std::string file)
      : at_(data), end_(data + n), file_(std::move(file)) {}

  // The geometries that one blob holds, in our three kinds.
  void geometry(std::vector<Feature>& out, int depth = 0) {
    const bool little = byte() == 1;
    std::uint32_t type = u32(little);
    const int extra = type / 1000 % 10;  // Z, M or ZM coordinates follow x and y
    dims_ = type >= 1000 ? (extra == 3 ? 4 : 3) : 2;
    has_z_ = extra == 1 || extra == 3;
    type %= 1000;
    switch (type) {
      case 1:
        heights_.clear();
        out.push_back({point(little), {}, {}});
        out.back().heights = heights_;
        break;
      case 2:
        out.push_back({line(little), {}, {}});
        out.back().heights = heights_;
        break;
      case 3:
        out.push_back({MultiPolygon{polygon(little)}, {}});
        break;
      case 4:
      case 5:
      case 6:
      case 7: {
        if (depth > 4) damaged();
        const std::uint32_t n = u32(little);
        std::vector<Feature> parts;
        for (std::uint32_t i = 0; i < n; ++i) geometry(parts, depth + 1);
        MultiPolygon shape;
        for (Feature& f : parts) {
          if (auto* p = std::get_if<MultiPolygon>(&f.geometry))
            shape.insert(shape.end(), p->begin(), p->end());
          else
            out.push_back(std::move(f));
        }
        if (!shape.empty()) out.push_back({shape, {}});
        break;
      }
      default:
        damaged();
    }
  }

 private:
  [[noreturn]] void damaged() const {
    throw Error(ErrorCode::BadFile, "a geometry is damaged", file_, "fetch it again");
  }
  void need(std::size_t n) const {
    if (static_cast<std::size_t>(end_ - at_) < n) damaged();
  }
  std::uint8_t byte() {
    need(1);
    return *at_++;
  }
  std::uint32_t u32(bool little) {
    need(4);
    std::uint32_t v = 0;
    for (int i = 0; i < 4; ++i) v |= static_cast<std::uint32_t>(at_[i]) << (little ? 8 * i : 24 - 8 * i);
    at_ += 4;
    return v;
  }
  double number(bool little) {
    need(8);
    std::uint64_t v = 0;
    for (int i = 0; i < 8; ++i) v |= static_cast<std::uint64_t>(at_[i]) << (little ? 8 * i : 56 - 8 * i);
    at_ += 8;
    double d = 0;
    std::memcpy(&d, &v, 8);
    return d;
  }
  Point point(bool little) {
    Point p{number(little), 0};
    p.y = number(little);
    for (int i = 2; i < dims_; ++i) {
      const double v = number(little);
      if (i == 2 && has_z_) heights_.push_back(v);
    }
    return p;
  }
  LineString line(bool little) {
    const std::uint32_t n = u32(little);
    need(std::size_t{n} * 8 * static_cast<std::size_t>(dims_));
    LineString l;
    heights_.clear();
    for (std::uint32_t i = 0; i < n; ++i) l.push_back(point(little));
    return l;
  }
  Polygon polygon(bool little) {
    const std::uint32_t n = u32(little);
    Polygon p;
    for (std::uint32_t i = 0; i < n; ++i) (i == 0 ? p.outer : p.holes.emplace_back()) = line(little);
    return p;
  }

  const std::uint8_t *at_, *end_;
  std::string file_;
  int dims_ = 2;
  bool has_z_ = false;
  std::vector<double> heights_;  // of the point or line that was read last
};

// ---- writing

std::string geometry_type(const Layer& layer) {
  std::string type;
  for (const Feature& f : layer.features) {
    const char* t = std::holds_alternative<Point>(f.geometry)        ? "POINT"
                    : std::holds_alternative<LineString>(f.geometry) ? "LINESTRING"
                                                                     : "MULTIPOLYGON";
    if (type.empty()) type = t;
    if (type != t) return "GEOMETRY";
  }
  return type.empty() ? "GEOMETRY" : type;
}

Bounds bounds_of(const Layer& layer) {
  Bounds b;
  for (const Feature& f : layer.features) {
    if (const auto* p = std::get_if<Point>(&f.geometry)) b.include(*p);
    if (const auto* l = std::get_if<LineString>(&f.geometry)) b.include(katoptra::bounds_of(*l));
    if (const auto* m = std::get_if<MultiPolygon>(&f.geometry)) b.include(katoptra::bounds_of(*m));
  }
  return b;
}

// A property of the layer and the column it goes to.
struct Column {
  std::string property, column;
  const char* type = "INTEGER";
};

// Those of all features, in the order in which they come; a name that the table has already (SQL does not tell capitals
// apart) gets a number.
std::vector<Column> columns_of(const Layer& layer) {
  std::vector<Column> out;
  std::set<std::string> taken{"fid", "geom"};
  for (const Feature& f : layer.features)
    for (const auto& [name, value] : f.properties) {
      auto c = std::find_if(out.begin(), out.end(), [&](const Column& o) { return o.property == name; });
      if (c == out.end()) {
        std::string column = name.empty() ? "value" : name;
        for (int n = 2; !taken.insert(lower_case(column)).second; ++n)
          column = fmt::format("{}_{}", name.empty() ? "value" : name, n);
        c = out.insert(out.end(), {name, column, "INTEGER"});
      }
      if (value.index() == 2)
        c->type = "TEXT";
      else if (value.index() == 1 && std::string_view(c->type) == "INTEGER")
        c->type = "REAL";
    }
  return out;
}

std::vector<std::uint8_t> blob_of(const Feature& f, int srs) {
  WkbWriter w;
  w.bytes = {'G', 'P', 0, 1};  // version 1, little endian, no envelope
  w.u32(static_cast<std::uint32_t>(srs));
  w.geometry(f);
  return std::move(w.bytes);
}

void create_tables(sqlite3* d, const Layer& layer, int srs, const std::string& file) {
  const Crs& crs = layer.crs;
  execute(d, "PRAGMA application_id = 1196444487; PRAGMA user_version = 10200;", file);
  execute(
      d,
      "CREATE TABLE gpkg_spatial_ref_sys (srs_name TEXT NOT NULL, srs_id INTEGER NOT NULL PRIMARY KEY, organization "
      "TEXT NOT NULL, organization_coordsys_id INTEGER NOT NULL, definition TEXT NOT NULL, description TEXT);"
      "CREATE TABLE gpkg_contents (table_name TEXT NOT NULL PRIMARY KEY, data_type TEXT NOT NULL, identifier TEXT "
      "UNIQUE, description TEXT DEFAULT '', last_change DATETIME NOT NULL DEFAULT "
      "(strftime('%Y-%m-%dT%H:%M:%fZ','now')), min_x DOUBLE, min_y DOUBLE, max_x DOUBLE, max_y DOUBLE, srs_id INTEGER, "
      "CONSTRAINT fk_gc_r_srs_id FOREIGN KEY (srs_id) REFERENCES gpkg_spatial_ref_sys(srs_id));"
      "CREATE TABLE gpkg_geometry_columns (table_name TEXT NOT NULL, column_name TEXT NOT NULL, geometry_type_name "
      "TEXT NOT NULL, srs_id INTEGER NOT NULL, z TINYINT NOT NULL, m TINYINT NOT NULL, CONSTRAINT pk_geom_cols PRIMARY "
      "KEY "
      "(table_name, column_name), CONSTRAINT fk_gc_tn FOREIGN KEY (table_name) REFERENCES gpkg_contents(table_name), "
      "CONSTRAINT fk_gc_srs FOREIGN KEY (srs_id) REFERENCES gpkg_spatial_ref_sys (srs_id));"
      "INSERT INTO gpkg_spatial_ref_sys VALUES ('Undefined Cartesian', -1, 'NONE', -1, 'undefined', NULL), ('Undefined "
      "geographic', 0, 'NONE', 0, 'undefined', NULL);",
      file);
  auto srs_row = [&](const Crs& c, int id) {
    Statement s = prepare(d, "INSERT OR IGNORE INTO gpkg_spatial_ref_sys VALUES (?,?,?,?,?,NULL)", file);
    sqlite3_bind_text(s.get(), 1, c.name().c_str(), -1, SQLITE_TRANSIENT);
    sqlite3_bind_int(s.get(), 2, id);
    sqlite3_bind_text(s.get(), 3, c.epsg() ? "EPSG" : "NONE", -1, SQLITE_TRANSIENT);
    sqlite3_bind_int(s.get(), 4, id);
    sqlite3_bind_text(s.get(), 5, c.wkt().c_str(), -1, SQLITE_TRANSIENT);
    if (sqlite3_step(s.get()) != SQLITE_DONE) fail(d, file);
  };
  srs_row(Crs::wgs84(), 4326);
  if (crs) srs_row(crs, srs);
}

}  // namespace

void write_geopackage(const Layer& layer, const std::filesystem::path& path, bool overwrite) {
  const std::string file = path.string();
  sqlite3* raw = nullptr;
  sqlite3_open(":memory:", &raw);
  Database db(raw);
  const int srs = !layer.crs ? -1 : layer.crs.epsg() ? layer.crs.epsg() : 100000;
  create_tables(raw, layer, srs, file);
  const std::string table = sql_name(layer.name);
  const std::vector<Column> all = columns_of(layer);
  std::string columns, names, marks;
  for (const Column& c : all) {
    columns += fmt::format(", {} {}", sql_name(c.column), c.type);
    names += ", " + sql_name(c.column);
    marks += ",?";
  }
  execute(raw,
          fmt::format("CREATE TABLE {} (fid INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL, geom BLOB{});", table, columns),
          file);
  const Bounds b = bounds_of(layer);
  Statement contents =
      prepare(raw,
              "INSERT INTO gpkg_contents (table_name, data_type, identifier, last_change, min_x, min_y, max_x, max_y, "
              "srs_id) VALUES (?,'features',?,'1970-01-01T00:00:00.000Z',?,?,?,?,?)",
              file);
  sqlite3_bind_text(contents.get(), 1, layer.name.c_str(), -1, SQLITE_TRANSIENT);
  sqlite3_bind_text(contents.get(), 2, layer.name.c_str(), -1, SQLITE_TRANSIENT);
  const double box[] = {b.west, b.south, b.east, b.north};
  for (int i = 0; i < 4; ++i)
    if (!b.empty()) sqlite3_bind_double(contents.get(), 3 + i, box[i]);
  sqlite3_bind_int(contents.get(), 7, srs);
  if (sqlite3_step(contents.get()) != SQLITE_DONE) fail(raw, file);
  Statement geometry = prepare(raw, "INSERT INTO gpkg_geometry_columns VALUES (?,'geom',?,?,0,0)", file);
  sqlite3_bind_text(geometry.get(), 1, layer.name.c_str(), -1, SQLITE_TRANSIENT);
  sqlite3_bind_text(geometry.get(), 2, geometry_type(layer).c_str(), -1, SQLITE_TRANSIENT);
  sqlite3_bind_int(geometry.get(), 3, srs);
  if (sqlite3_step(geometry.get()) != SQLITE_DONE) fail(raw, file);
  execute(raw, "BEGIN", file);
  Statement insert = prepare(raw, fmt::format("INSERT INTO {} (geom{}) VALUES (?{})", table, names, marks), file);
  for (const Feature& f : layer.features) {
    sqlite3_reset(insert.get());
    sqlite3_clear_bindings(insert.get());  // what this feature has not must not be that of the last one
    const auto blob = blob_of(f, srs);
    sqlite3_bind_blob(insert.get(), 1, blob.data(), static_cast<int>(blob.size()), SQLITE_TRANSIENT);
    for (const auto& [name, value] : f.properties) {
      const auto found = std::find_if(all.begin(), all.end(), [&](const Column& c) { return c.property == name; });
      const int i = 2 + static_cast<int>(found - all.begin());
      if (const auto* n = std::get_if<std::int64_t>(&value)) sqlite3_bind_int64(insert.get(), i, *n);
      if (const auto* x = std::get_if<double>(&value)) sqlite3_bind_double(insert.get(), i, *x);
      if (const auto* s = std::get_if<std::string>(&value))
        sqlite3_bind_text(insert.get(), i, s->data(), static_cast<int>(s->size()), SQLITE_TRANSIENT);
    }
    if (sqlite3_step(insert.get()) != SQLITE_DONE) fail(raw, file);
  }
  execute(raw, "COMMIT", file);
  contents.reset();
  geometry.reset();
  insert.reset();
  sqlite3_int64 size = 0;
  std::unique_ptr<unsigned char, void (*)(void*)> bytes(sqlite3_serialize(raw, "main", &size, 0), sqlite3_free);
  if (!bytes)
    throw Error(ErrorCode::TooLarge, "the GeoPackage does not fit into memory", file,
                "write GeoJSON, or fewer features");
  write_file(path, std::span(bytes.get(), static_cast<std::size_t>(size)), {.overwrite = overwrite});
}

Layer read_geopackage(const std::filesystem::path& path) {
  const std::string file = path.string();
  open_file(path);  // says clearly when it is not there or empty
  sqlite3* raw = nullptr;
  const int status = sqlite3_open_v2(file.c_str(), &raw, SQLITE_OPEN_READONLY, nullptr);
  Database db(raw);
  if (status != SQLITE_OK) fail(raw, file);
  Statement columns = prepare(raw, "SELECT table_name, column_name, srs_id FROM gpkg_geometry_columns LIMIT 1", file);
  if (sqlite3_step(columns.get()) != SQLITE_ROW)
    throw Error(ErrorCode::BadFile, "holds no features", file, "check what it is");
  auto text = [](sqlite3_stmt* s, int i) {
    const unsigned char* t = sqlite3_column_text(s, i);
    return std::string(t ? reinterpret_cast<const char*>(t) : "");
  };
  Layer layer;
  layer.name = text(columns.get(), 0);
  const std::string geometry = text(columns.get(), 1);
  const int srs = sqlite3_column_int(columns.get(), 2);
  if (srs > 0) {
    Statement s = prepare(
        raw,
        fmt::format(
            "SELECT organization, organization_coordsys_id, definition FROM gpkg_spatial_ref_sys WHERE srs_id = {}",
            srs),
        file);
    if (sqlite3_step(s.get()) == SQLITE_ROW)
      layer.crs = text(s.get(), 0) == "EPSG" || text(s.get(), 0) == "epsg"
                      ? Crs::parse(fmt::format("EPSG:{}", sqlite3_column_int(s.get(), 1)))
                      : Crs::parse(text(s.get(), 2));
  }
  Statement rows = prepare(raw, fmt::format("SELECT * FROM {}", sql_name(layer.name)), file);
  int step = 0;
  while ((step = sqlite3_step(rows.get())) == SQLITE_ROW) {
    std::vector<Feature> found;
    std::vector<std::pair<std::string, Property>> properties;
    for (int i = 0; i < sqlite3_column_count(rows.get()); ++i) {
      const std::string name = sqlite3_column_name(rows.get(), i);
      if (name == geometry) {
        const auto* blob = static_cast<const std::uint8_t*>(sqlite3_column_blob(rows.get(), i));
        const auto n = static_cast<std::size_t>(sqlite3_column_bytes(rows.get(), i));
        if (!blob || n < 8 || blob[0] != 'G' || blob[1] != 'P') continue;
        constexpr std::size_t kEnvelope[] = {0, 32, 48, 48, 64};
        const int envelope = blob[3] >> 1 & 7;
        const std::size_t skip = 8 + (envelope < 5 ? kEnvelope[envelope] : 0);
        if (blob[3] & 0x10 || skip >= n) continue;
        WkbReader(blob + skip, n - skip, file).geometry(found);
        continue;
      }
      switch (sqlite3_column_type(rows.get(), i)) {
        case SQLITE_INTEGER:
          properties.emplace_back(name, std::int64_t{sqlite3_column_int64(rows.get(), i)});
          break;
        case SQLITE_FLOAT:
          properties.emplace_back(name, sqlite3_column_double(rows.get(), i));
          break;
        case SQLITE_TEXT:
          properties.emplace_back(name, text(rows.get(), i));
          break;
        default:
          break;
      }
    }
    for (Feature& f : found) {
      f.properties = properties;
      layer.features.push_back(std::move(f));
    }
  }
  if (step != SQLITE_DONE) fail(raw, file);
  return layer;
}

}  // namespace katoptra
