// GeoPackage 1.2 (OGC 12-128r14): one feature table in an SQLite file. Written in memory and put in place whole.
#include "geopackage.hpp"

#include <algorithm>
#include <cstring>
#include <fmt/format.h>
#include <map>
#include <memory>
#include <optional>
#include <set>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/bytes.hpp"

#include "base/scratch_sql.hpp"
#include "base/text.hpp"

namespace katoptra {
std::string sql_name(const std::string& name) {
  std::string s = "\"";
  for (char c : name) s += c == '"' ? std::string("\"\"") : std::string(1, c);
  return s + "\"";
}

namespace {

// ---- well-known binary

class WkbWriter {
 public:
  void geometry(const Feature& f) {
    const bool heights = has_heights(f);
    constexpr std::uint32_t kWithHeights = 1000;
    if (const auto* p = std::get_if<Point>(&f.geometry)) {
      head(heights ? 1 + kWithHeights : 1);
      point(*p);
      if (heights) raw(f.heights.data(), 8);
    } else if (const auto* line = std::get_if<LineString>(&f.geometry)) {
      head(heights ? 2 + kWithHeights : 2);
      points(*line, heights ? f.heights.data() : nullptr);
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
  void points(const LineString& line, const double* heights = nullptr) {
    u32(static_cast<std::uint32_t>(line.size()));
    for (Point p : line) {
      point(p);
      if (heights) raw(heights++, 8);
    }
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

// Whether geometries have a third coordinate: 0 none, 1 all, 2 some.
std::int64_t z_of(const Layer& layer) {
  const auto n = std::count_if(layer.features.begin(), layer.features.end(), has_heights);
  return n == 0 ? 0 : n == std::ssize(layer.features) ? 1 : 2;
}

// A property of the layer and the column it goes to.
struct TableColumn {
  std::string property, column;
  const char* type = "INTEGER";
};

// Those of all features, in the order in which they come; a name that the table has already (SQL does not tell capitals
// apart) gets a number.
std::vector<TableColumn> columns_of(const Layer& layer) {
  std::vector<TableColumn> out;
  std::set<std::string> taken{"fid", "geom"};
  for (const Feature& f : layer.features)
    for (const auto& [name, value] : f.properties) {
      auto c = std::find_if(out.begin(), out.end(), [&](const TableColumn& o) { return o.property == name; });
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

}  // namespace

int geopackage_srs(const Crs& crs) { return !crs ? -1 : crs.epsg() ? crs.epsg() : 100000; }

void create_geopackage(Sql& sql, const Crs& crs) {
  const int srs = geopackage_srs(crs);
  sql.run_all("PRAGMA application_id = 1196444487; PRAGMA user_version = 10200;");
  sql.run_all(
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
      "geographic', 0, 'NONE', 0, 'undefined', NULL);");
  auto srs_row = [&](const Crs& c, int id) {
    const std::string name = c.name(), wkt = c.wkt(), who = c.epsg() ? "EPSG" : "NONE";
    sql.query("INSERT OR IGNORE INTO gpkg_spatial_ref_sys VALUES (?,?,?,?,?,NULL)")
        .bind(1, name)
        .bind(2, std::int64_t{id})
        .bind(3, who)
        .bind(4, std::int64_t{id})
        .bind(5, wkt)
        .run();
  };
  srs_row(Crs::wgs84(), 4326);
  if (crs) srs_row(crs, srs);
}

namespace {

class GeoPackageWriter final : public LayerWriter {
 public:
  // Columns, kind of geometry and heights are those of `like`.
  GeoPackageWriter(const Layer& like, const std::filesystem::path& path, bool overwrite)
      : sink_(create_file(path, {.overwrite = overwrite})),
        scratch_(path.string()),
        name_(like.name),
        srs_(geopackage_srs(like.crs)),
        columns_(columns_of(like)) {
    Sql& sql = scratch_.sql();
    create_geopackage(sql, like.crs);
    const std::string table = sql_name(name_);
    std::string columns, names, marks;
    for (const TableColumn& c : columns_) {
      columns += fmt::format(", {} {}", sql_name(c.column), c.type);
      names += ", " + sql_name(c.column);
      marks += ",?";
    }
    sql.run(
        fmt::format("CREATE TABLE {} (fid INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL, geom BLOB{})", table, columns));
    sql.query(
           "INSERT INTO gpkg_contents (table_name, data_type, identifier, last_change, srs_id) VALUES "
           "(?,'features',?,'1970-01-01T00:00:00.000Z',?)")
        .bind(1, name_)
        .bind(2, name_)
        .bind(3, std::int64_t{srs_})
        .run();
    const std::string type = geometry_type(like);
    sql.query("INSERT INTO gpkg_geometry_columns VALUES (?,'geom',?,?,?,0)")
        .bind(1, name_)
        .bind(2, type)
        .bind(3, std::int64_t{srs_})
        .bind(4, z_of(like))
        .run();
    rows_.emplace(sql);
    insert_.emplace(sql.query(fmt::format("INSERT INTO {} (geom{}) VALUES (?{})", table, names, marks)));
  }

  void add(const Feature& f) override {
    insert_->clear();  // what this feature has not must not be that of the last one
    const auto blob = blob_of(f, srs_);
    insert_->bind_blob(1, {reinterpret_cast<const char*>(blob.data()), blob.size()});
    for (const auto& [name, value] : f.properties) {
      const auto found =
          std::find_if(columns_.begin(), columns_.end(), [&](const TableColumn& c) { return c.property == name; });
      if (found == columns_.end()) continue;
      const int i = 2 + static_cast<int>(found - columns_.begin());
      std::visit([&](const auto& v) { insert_->bind(i, v); }, value);
    }
    insert_->run();
    if (const auto* p = std::get_if<Point>(&f.geometry)) box_.include(*p);
    if (const auto* l = std::get_if<LineString>(&f.geometry)) box_.include(bounds_of(*l));
    if (const auto* m = std::get_if<MultiPolygon>(&f.geometry)) box_.include(bounds_of(*m));
  }

  LayerReport finish() override {
    insert_.reset();
    if (!box_.empty())
      scratch_.sql()
          .query("UPDATE gpkg_contents SET min_x = ?, min_y = ?, max_x = ?, max_y = ? WHERE table_name = ?")
          .bind(1, box_.west)
          .bind(2, box_.south)
          .bind(3, box_.east)
          .bind(4, box_.north)
          .bind(5, name_)
          .run();
    rows_->commit();
    scratch_.pour([&](std::uint64_t at, auto bytes) { sink_->write_at(at, bytes); });
    sink_->commit();
    return {};
  }

 private:
  std::unique_ptr<ByteSink> sink_;
  ScratchSql scratch_;
  std::string name_;
  int srs_;
  std::vector<TableColumn> columns_;
  std::optional<SqlTransaction> rows_;
  std::optional<SqlQuery> insert_;
  Bounds box_;
};

}  // namespace

std::unique_ptr<LayerWriter> open_geopackage_writer(const Layer& like, const std::filesystem::path& path,
                                                    bool overwrite) {
  return std::make_unique<GeoPackageWriter>(like, path, overwrite);
}

LayerReport write_geopackage(const Layer& layer, const std::filesystem::path& path, bool overwrite) {
  GeoPackageWriter writer(layer, path, overwrite);
  for (const Feature& f : layer.features) writer.add(f);
  return writer.finish();
}

namespace {

// The geometry of a GeoPackage's blob: a header, an envelope, and well-known binary. Empty geometries give nothing.
void read_blob(std::string_view blob, const std::string& file, std::vector<Feature>& out) {
  const auto* b = reinterpret_cast<const std::uint8_t*>(blob.data());
  if (blob.size() < 8 || b[0] != 'G' || b[1] != 'P') return;
  constexpr std::size_t kEnvelope[] = {0, 32, 48, 48, 64};
  const int envelope = b[3] >> 1 & 7;
  const std::size_t skip = 8 + (envelope < 5 ? kEnvelope[envelope] : 0);
  if (b[3] & 0x10 || skip >= blob.size()) return;
  WkbReader(b + skip, blob.size() - skip, file).geometry(out);
}

void read_row(const SqlQuery& row, const std::string& geometry, const std::string& file, Layer& layer) {
  std::vector<Feature> found;
  std::vector<std::pair<std::string, Property>> properties;
  for (int i = 0; i < row.columns(); ++i) {
    const std::string name = row.column_name(i);
    if (name == geometry)
      read_blob(row.blob(i), file, found);
    else if (row.type(i) == SQLITE_INTEGER)
      properties.emplace_back(name, row.integer(i));
    else if (row.type(i) == SQLITE_FLOAT)
      properties.emplace_back(name, row.real(i));
    else if (row.type(i) == SQLITE_TEXT)
      properties.emplace_back(name, row.text(i));
  }
  for (Feature& f : found) {
    f.properties = properties;
    layer.features.push_back(std::move(f));
  }
}

}  // namespace

Crs geopackage_crs(const Sql& sql, std::int64_t srs) {
  if (srs <= 0) return {};
  SqlQuery q =
      sql.query("SELECT organization, organization_coordsys_id, definition FROM gpkg_spatial_ref_sys WHERE srs_id = ?");
  if (!q.bind(1, srs).step()) return {};
  return lower_case(q.text(0)) == "epsg" ? Crs::parse(fmt::format("EPSG:{}", q.integer(1))) : Crs::parse(q.text(2));
}

Layer read_geopackage(const std::filesystem::path& path) {
  const std::string file = path.string();
  open_file(path);  // says clearly when it is not there or empty
  const Sql sql(path, Sql::Mode::ReadOnly);
  SqlQuery columns = sql.query("SELECT table_name, column_name, srs_id FROM gpkg_geometry_columns LIMIT 1");
  if (!columns.step()) throw Error(ErrorCode::BadFile, "holds no features", file, "check what it is");
  Layer layer;
  layer.name = columns.text(0);
  const std::string geometry = columns.text(1);
  layer.crs = geopackage_crs(sql, columns.integer(2));
  SqlQuery rows = sql.query(fmt::format("SELECT * FROM {}", sql_name(layer.name)));
  while (rows.step()) read_row(rows, geometry, file, layer);
  return layer;
}

}  // namespace katoptra
