// By way of shapelib. What it writes is gathered in a folder beside the file and put in place when it is whole.
#include "shapefile.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <map>
#include <memory>
#include <set>
#include <shapefil.h>
#include <unistd.h>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/bytes.hpp"

#include "base/ranks.hpp"
#include "base/text.hpp"
#include "geo/turning.hpp"
#include "prj.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

struct CloseShapes {
  void operator()(SHPInfo* h) const { SHPClose(h); }
};
struct CloseTable {
  void operator()(DBFInfo* h) const { DBFClose(h); }
};
struct FreeObject {
  void operator()(SHPObject* o) const { SHPDestroyObject(o); }
};
using Shapes = std::unique_ptr<SHPInfo, CloseShapes>;
using Table = std::unique_ptr<DBFInfo, CloseTable>;
using Object = std::unique_ptr<SHPObject, FreeObject>;

// What goes wrong is told by us.
SAHooks quiet_hooks() {
  SAHooks hooks;
  SASetupDefaultHooks(&hooks);
  hooks.Error = [](const char*) {};
  return hooks;
}

constexpr std::size_t kLongestName = 10, kLongestField = 254;

// ---- writing

struct Field {
  std::string property, name;
  std::size_t kind = 0;  // of Property
  int width = 1, decimals = 0;
};

int digits_before_point(double v) { return v < 1 ? 1 : static_cast<int>(std::floor(std::log10(v))) + 1; }

class FieldList {
 public:
  explicit FieldList(const Layer& layer) {
    for (const Feature& f : layer.features)
      for (const auto& [name, value] : f.properties) take(name, value);
    for (Field& f : list) finish(f);
  }
  std::vector<Field> list;
  std::vector<std::string> notes;

 private:
  struct Seen {
    double most = 0;
    std::size_t longest = 0;
    bool negative = false;
  };
  void take(const std::string& name, const Property& value) {
    auto f = std::find_if(list.begin(), list.end(), [&](const Field& o) { return o.property == name; });
    if (f == list.end()) f = list.insert(list.end(), {name, short_name(name), value.index()});
    Seen& s = seen_[name];
    if (f->kind != value.index()) f->kind = f->kind == 2 || value.index() == 2 ? 2 : 1;
    if (const auto* text = std::get_if<std::string>(&value)) {
      s.longest = std::max(s.longest, text->size());
      return;
    }
    const auto* whole = std::get_if<std::int64_t>(&value);
    const double v = whole ? static_cast<double>(*whole) : std::get<double>(value);
    s.longest = std::max<std::size_t>(s.longest, 24);
    if (std::isfinite(v)) s.most = std::max(s.most, std::abs(v));
  }
  void finish(Field& f) {
    const Seen& s = seen_[f.property];
    const int before = digits_before_point(s.most);
    if (f.kind == 0) {
      f.width = std::min(before + 1, 18);
    } else if (f.kind == 1) {
      // As many digits as a number has.
      f.decimals = std::clamp(15 - before, 1, 15);
      f.width = std::min(before + 2 + f.decimals, 31);
    } else {
      f.width = static_cast<int>(std::clamp<std::size_t>(s.longest, 1, kLongestField));
      if (s.longest > kLongestField)
        notes.push_back(fmt::format("texts of {} are cut to {} bytes", f.property, kLongestField));
    }
    if (f.name != f.property) notes.push_back(fmt::format("{} is called {}", f.property, f.name));
  }
  // Ten letters at most, told apart whatever their case.
  std::string short_name(const std::string& name) {
    std::string base;
    for (const char c : name) base += static_cast<unsigned char>(c) < 0x80 && c > ' ' ? c : '_';
    if (base.empty()) base = "value";
    std::string out = base.substr(0, kLongestName);
    for (int n = 2; !taken_.insert(lower_case(out)).second; ++n) {
      const std::string number = fmt::format("{}", n);
      out = base.substr(0, kLongestName - number.size()) + number;
    }
    return out;
  }
  std::map<std::string, Seen> seen_;
  std::set<std::string> taken_;
};

// Beside the file that will be, and gone with it.
class Workshop {
 public:
  explicit Workshop(const fs::path& path)
      : folder_(path.parent_path() / fmt::format(".{}.part-{}", path.filename().string(), ::getpid())) {
    std::error_code ec;
    fs::remove_all(folder_, ec);
    fs::create_directory(folder_, ec);
    if (ec) throw Error(ErrorCode::Io, "cannot be written: " + ec.message(), path.string(), "choose another place");
  }
  ~Workshop() {
    std::error_code ec;
    fs::remove_all(folder_, ec);
  }
  Workshop(const Workshop&) = delete;
  Workshop& operator=(const Workshop&) = delete;
  fs::path operator/(const char* name) const { return folder_ / name; }

 private:
  fs::path folder_;
};

class ShapeWriter {
 public:
  ShapeWriter(const Layer& layer, const fs::path& path) : layer_(layer), path_(path) {
    const std::size_t kind = layer.features.empty() ? 0 : layer.features[0].geometry.index();
    bool heights = false;
    for (const Feature& f : layer.features) {
      if (f.geometry.index() != kind)
        throw Error(ErrorCode::Unsupported,
                    "a shapefile holds points, lines or areas, and these are more than one of them", path.string(),
                    "write .gpkg, .geojson or .kml");
      heights = heights || (!f.heights.empty() && kind < 2);
    }
    constexpr int kTypes[3][2] = {{SHPT_POINT, SHPT_POINTZ}, {SHPT_ARC, SHPT_ARCZ}, {SHPT_POLYGON, SHPT_POLYGON}};
    type_ = kTypes[kind][heights ? 1 : 0];
  }

  std::vector<std::string> write(const Workshop& in) {
    SAHooks hooks = quiet_hooks();
    const FieldList fields(layer_);
    {
      const Shapes shapes(SHPCreateLL((in / "all.shp").c_str(), type_, &hooks));
      const Table table(DBFCreateLL((in / "all.dbf").c_str(), "UTF-8", &hooks));
      if (!shapes || !table) failed();
      for (const Field& f : fields.list)
        if (DBFAddField(table.get(), f.name.c_str(),
                        f.kind == 2   ? FTString
                        : f.kind == 1 ? FTDouble
                                      : FTInteger,
                        f.width, f.decimals) < 0)
          failed();
      // A table without columns is none.
      if (fields.list.empty() && DBFAddField(table.get(), "number", FTInteger, 10, 0) < 0) failed();
      for (std::size_t i = 0; i < layer_.features.size(); ++i) {
        const Object o = object(layer_.features[i]);
        const int row = static_cast<int>(i);
        if (!o || SHPWriteObject(shapes.get(), -1, o.get()) < 0) failed();
        if (fields.list.empty()) DBFWriteIntegerAttribute(table.get(), row, 0, row + 1);
        for (std::size_t k = 0; k < fields.list.size(); ++k)
          if (!write_value(table.get(), row, static_cast<int>(k), fields.list[k], layer_.features[i])) failed();
      }
    }
    return fields.notes;
  }

 private:
  [[noreturn]] void failed() const {
    throw Error(ErrorCode::Io, "the shapefile cannot be written", path_.string(),
                "check the disk; a shapefile holds no more than 2 GiB");
  }

  static bool write_value(DBFHandle table, int row, int column, const Field& field, const Feature& f) {
    const auto found = std::find_if(f.properties.begin(), f.properties.end(),
                                    [&](const auto& p) { return p.first == field.property; });
    const auto* number = found == f.properties.end() ? nullptr : std::get_if<double>(&found->second);
    if (found == f.properties.end() || (number && !std::isfinite(*number)))
      return DBFWriteNULLAttribute(table, row, column) != 0;
    if (field.kind == 2) {
      const auto* text = std::get_if<std::string>(&found->second);
      const auto* whole = std::get_if<std::int64_t>(&found->second);
      std::string value = text ? *text : whole ? fmt::format("{}", *whole) : fmt::format("{}", *number);
      // Cut between letters.
      while (value.size() > static_cast<std::size_t>(field.width) ||
             (value.size() == static_cast<std::size_t>(field.width) && text && text->size() > value.size() &&
              (static_cast<unsigned char>((*text)[value.size()]) & 0xC0) == 0x80))
        value.pop_back();
      return DBFWriteStringAttribute(table, row, column, value.c_str()) != 0;
    }
    const auto* whole = std::get_if<std::int64_t>(&found->second);
    if (field.kind == 0 && std::abs(*whole) < (1LL << 31))
      return DBFWriteIntegerAttribute(table, row, column, static_cast<int>(*whole)) != 0;
    return DBFWriteDoubleAttribute(table, row, column, whole ? static_cast<double>(*whole) : *number) != 0;
  }

  Object object(const Feature& f) const {
    std::vector<int> parts;
    std::vector<double> x, y, z;
    const auto add = [&](const LineString& line, const Feature* heights) {
      parts.push_back(static_cast<int>(x.size()));
      for (std::size_t i = 0; i < line.size(); ++i) {
        const double h = heights ? height_at(*heights, i) : 0;
        x.push_back(line[i].x);
        y.push_back(line[i].y);
        z.push_back(std::isfinite(h) ? h : 0);
      }
    };
    if (const auto* p = std::get_if<Point>(&f.geometry)) add({*p}, &f);
    if (const auto* l = std::get_if<LineString>(&f.geometry)) add(*l, &f);
    if (const auto* m = std::get_if<MultiPolygon>(&f.geometry))
      for (const Polygon& p : *m) {
        add(turning(p.outer, Turn::Right), nullptr);
        for (const Ring& hole : p.holes) add(turning(hole, Turn::Left), nullptr);
      }
    const bool single = type_ == SHPT_POINT || type_ == SHPT_POINTZ;
    return Object(SHPCreateObject(type_, -1, single ? 0 : static_cast<int>(parts.size()),
                                  single ? nullptr : parts.data(), nullptr, static_cast<int>(x.size()), x.data(),
                                  y.data(), z.data(), nullptr));
  }

  const Layer& layer_;
  fs::path path_;
  int type_;
};

// ---- reading

class ShapeReader {
 public:
  ShapeReader(const fs::path& path, Layer& layer) : path_(path), layer_(layer), hooks_(quiet_hooks()) {
    shapes_.reset(SHPOpenLL(path.c_str(), "rb", &hooks_));
    if (!shapes_) damaged("is no shapefile, or its .shx is not there");
    SHPGetInfo(shapes_.get(), &count_, &type_, nullptr, nullptr);
    fs::path table = fs::path(path).replace_extension(".dbf");
    std::error_code ec;
    if (!fs::is_regular_file(table, ec)) table.replace_extension(".DBF");
    if (fs::is_regular_file(table, ec)) {
      table_.reset(DBFOpenLL(table.c_str(), "rb", &hooks_));
      if (!table_) damaged("its .dbf is damaged");
    }
    const fs::path page = fs::path(path).replace_extension(".cpg");
    const std::string code = fs::is_regular_file(page, ec) ? lower_case(trimmed(read_text_file(page, 1 << 12)))
                             : table_ && DBFGetCodePage(table_.get()) ? lower_case(DBFGetCodePage(table_.get()))
                                                                      : std::string();
    latin_ = code.find("1252") != code.npos || code.find("8859-1") != code.npos || code.find("ldid/87") != code.npos;
  }

  void read() {
    for (int i = 0; i < count_; ++i) {
      const Object o(SHPReadObject(shapes_.get(), i));
      if (!o) damaged(fmt::format("shape {} is damaged", i + 1));
      add(*o, i);
    }
  }

 private:
  [[noreturn]] void damaged(const std::string& what) const {
    throw Error(ErrorCode::BadFile, what, path_.string(), "check the files that belong to it: .shp, .shx, .dbf");
  }

  std::string text(const char* raw) const {
    const std::string bytes = trimmed(raw);
    const bool plain =
        std::all_of(bytes.begin(), bytes.end(), [](char c) { return static_cast<unsigned char>(c) < 0x80; });
    if (plain || !latin_) return bytes;
    std::string out;
    for (const char c : bytes) {
      const auto u = static_cast<unsigned char>(c);
      if (u < 0x80) {
        out += c;
      } else {
        out += static_cast<char>(0xC0 | u >> 6);
        out += static_cast<char>(0x80 | (u & 0x3F));
      }
    }
    return out;
  }

  std::vector<std::pair<std::string, Property>> properties(int row) const {
    std::vector<std::pair<std::string, Property>> out;
    if (!table_ || row >= DBFGetRecordCount(table_.get())) return out;
    for (int k = 0; k < DBFGetFieldCount(table_.get()); ++k) {
      char name[XBASE_FLDNAME_LEN_READ + 1] = {};
      int width = 0, decimals = 0;
      const DBFFieldType type = DBFGetFieldInfo(table_.get(), k, name, &width, &decimals);
      if (DBFIsAttributeNULL(table_.get(), row, k)) continue;
      if (type == FTInteger || (type == FTDouble && decimals == 0)) {
        const double v = DBFReadDoubleAttribute(table_.get(), row, k);
        if (std::abs(v) < 9e15)
          out.emplace_back(text(name), static_cast<std::int64_t>(v));
        else
          out.emplace_back(text(name), v);
      } else if (type == FTDouble) {
        out.emplace_back(text(name), DBFReadDoubleAttribute(table_.get(), row, k));
      } else if (const char* value = DBFReadStringAttribute(table_.get(), row, k)) {
        out.emplace_back(text(name), text(value));
      }
    }
    return out;
  }

  void add(const SHPObject& o, int row) {
    const bool heights = o.nSHPType == SHPT_POINTZ || o.nSHPType == SHPT_ARCZ || o.nSHPType == SHPT_MULTIPOINTZ;
    const auto place = [&](int i) {
      const Point p{o.padfX[i], o.padfY[i]};
      if (!std::isfinite(p.x) || !std::isfinite(p.y))
        damaged(fmt::format("shape {} has a place that is no number", row + 1));
      return p;
    };
    switch (o.nSHPType) {
      case SHPT_NULL:
        return;
      case SHPT_POINT:
      case SHPT_POINTZ:
      case SHPT_POINTM:
      case SHPT_MULTIPOINT:
      case SHPT_MULTIPOINTZ:
      case SHPT_MULTIPOINTM:
        for (int i = 0; i < o.nVertices; ++i) {
          Feature f{place(i), properties(row), {}};
          if (heights) f.heights.push_back(o.padfZ[i]);
          layer_.features.push_back(std::move(f));
        }
        return;
      default:
        break;
    }
    std::vector<Ring> rings;
    for (int part = 0; part < std::max(1, o.nParts); ++part) {
      const int from = o.nParts > 0 ? o.panPartStart[part] : 0,
                end = part + 1 < o.nParts ? o.panPartStart[part + 1] : o.nVertices;
      if (from < 0 || end > o.nVertices || from > end) damaged(fmt::format("shape {} is damaged", row + 1));
      LineString line;
      std::vector<double> z;
      for (int i = from; i < end; ++i) {
        line.push_back(place(i));
        if (heights) z.push_back(o.padfZ[i]);
      }
      const bool lines = o.nSHPType == SHPT_ARC || o.nSHPType == SHPT_ARCZ || o.nSHPType == SHPT_ARCM;
      if (lines && line.size() >= 2)
        layer_.features.push_back({std::move(line), properties(row), std::move(z)});
      else if (!lines && line.size() >= 4)
        rings.push_back(std::move(line));
    }
    if (!rings.empty()) layer_.features.push_back({polygons(std::move(rings)), properties(row), {}});
  }

  // Outer rings run clockwise; holes belong to the smallest outer ring around them.
  static MultiPolygon polygons(std::vector<Ring> rings) {
    MultiPolygon out;
    std::vector<Ring> holes;
    for (Ring& r : rings) (twice_area(r) > 0 ? holes : out.emplace_back().holes).push_back(std::move(r));
    for (Polygon& p : out) {
      p.outer = turning(std::move(p.holes.back()), Turn::Left);
      p.holes.clear();
    }
    for (Ring& h : holes) {
      Polygon* around = nullptr;
      for (Polygon& p : out)
        if (contains(MultiPolygon{{p.outer, {}}}, h[0]) && (!around || twice_area(p.outer) < twice_area(around->outer)))
          around = &p;
      if (around)
        around->holes.push_back(std::move(h));
      else  // one that was drawn the wrong way round
        out.push_back({std::move(h), {}});
    }
    return out;
  }

  fs::path path_;
  Layer& layer_;
  SAHooks hooks_;
  Shapes shapes_;
  Table table_;
  int count_ = 0, type_ = 0;
  bool latin_ = false;
};

}  // namespace

LayerReport write_shapefile(const Layer& layer, const fs::path& path, bool overwrite) {
  refuse_to_help(path.string());
  ShapeWriter writer(layer, path);
  const std::vector<std::pair<const char*, std::string>> parts = {
      {"all.dbf", ".dbf"}, {"all.shx", ".shx"}, {"all.shp", path.extension().string()}};
  std::error_code ec;
  for (const auto& [from, ending] : parts)
    if (const fs::path to = fs::path(path).replace_extension(ending); !overwrite && fs::exists(to, ec))
      throw Error(ErrorCode::Io, "exists already", to.string(), "choose another name or say --overwrite");
  require_prj(path, layer.crs, overwrite);
  const Workshop workshop(path);
  LayerReport report{.beside = {}, .notes = writer.write(workshop)};
  for (const auto& [from, ending] : parts) {
    const fs::path to = fs::path(path).replace_extension(ending);
    fs::rename(workshop / from, to, ec);
    if (ec) throw Error(ErrorCode::Io, "cannot be written: " + ec.message(), to.string(), "check the folder");
    if (ending != parts.back().second) report.beside.push_back(to);
  }
  const fs::path page = fs::path(path).replace_extension(".cpg");
  write_text_file(page, "UTF-8\n", {.overwrite = true});
  report.beside.push_back(page);
  const LayerReport prj = write_prj(path, layer.crs);
  report.beside.insert(report.beside.end(), prj.beside.begin(), prj.beside.end());
  return report;
}

Layer read_shapefile(const fs::path& path, const Crs& otherwise) {
  open_file(path);  // says clearly when it is not there or empty
  Layer layer{.name = path.stem().string(), .crs = read_prj(path, otherwise), .features = {}};
  ShapeReader(path, layer).read();
  return layer;
}

}  // namespace katoptra
