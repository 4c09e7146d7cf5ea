#include "katoptra/formats/vector_file.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"

#include "base/text.hpp"
#include "formats/format_row.hpp"

namespace katoptra {
namespace fs = std::filesystem;

Layer read_layer(const fs::path& path, const Crs& otherwise) {
  const FormatRow* row = row_of(path, Holds::Features, Use::Read);
  if (!row)
    throw Error(ErrorCode::Unsupported,
                fmt::format("vector files of the kind '{}' are not read here", lower_extension(path)), path.string(),
                "give a file that ends in one of " + endings_of(Holds::Features, Use::Read));
  return row->read_layer(path, otherwise);
}

namespace {

const FormatRow& row_for(const Layer& layer, const fs::path& path) {
  if (const FormatRow* row = row_of(path, Holds::Features, Use::Written)) return *row;
  const bool points = std::all_of(layer.features.begin(), layer.features.end(),
                                  [](const Feature& f) { return std::holds_alternative<Point>(f.geometry); });
  throw Error(
      ErrorCode::Unsupported, fmt::format("features are not written as '{}' here", lower_extension(path)),
      path.string(),
      "give a name that ends in one of " + (points ? endings_of(Holds::Features, Use::Written) : endings_of_lines()));
}

// For formats that want the whole layer at once.
class WholeLayer final : public LayerWriter {
 public:
  WholeLayer(const FormatRow& row, const Layer& like, fs::path path, const WriteLayerOptions& options,
             std::size_t memory)
      : row_(row), path_(std::move(path)), overwrite_(options.overwrite), memory_(memory) {
    layer_ = {.name = like.name, .crs = like.crs, .features = {}, .unit = like.unit};
  }
  void add(const Feature& f) override {
    bytes_ += 200;
    if (const auto* l = std::get_if<LineString>(&f.geometry)) bytes_ += l->size() * sizeof(Point);
    if (const auto* m = std::get_if<MultiPolygon>(&f.geometry))
      for (const Polygon& p : *m) bytes_ += p.outer.size() * sizeof(Point);
    if (bytes_ > memory_)
      throw Error(ErrorCode::TooLarge, fmt::format("{} of so many features does not fit into memory", row_.facts.name),
                  path_.string(), "write .gpkg or .geojson, which need none, or allow more with --memory");
    layer_.features.push_back(f);
  }
  LayerReport finish() override { return row_.write_layer(layer_, path_, overwrite_); }

 private:
  const FormatRow& row_;
  fs::path path_;
  bool overwrite_;
  std::size_t memory_, bytes_ = 0;
  Layer layer_;
};

}  // namespace

LayerReport write_layer(const Layer& layer, const fs::path& path, const WriteLayerOptions& options) {
  return row_for(layer, path).write_layer(layer, path, options.overwrite);
}

std::unique_ptr<LayerWriter> open_layer_writer(const fs::path& path, const Layer& like,
                                               const WriteLayerOptions& options, std::size_t memory) {
  const FormatRow& row = row_for(like, path);
  if (row.open_writer) return row.open_writer(like, path, options.overwrite);
  return std::make_unique<WholeLayer>(row, like, path, options, memory);
}

Area read_area(const fs::path& path) {
  const Layer layer = read_layer(path);
  const auto is_area = [](const Feature& f) { return std::holds_alternative<MultiPolygon>(f.geometry); };
  if (std::none_of(layer.features.begin(), layer.features.end(), is_area))
    throw Error(ErrorCode::BadFile, "has no polygon in it", path.string(), "give the area as a polygon");
  if (!layer.crs)
    throw Error(ErrorCode::Refused, "does not say in which CRS it is drawn", path.string(),
                "put a .prj with the CRS beside it, or give the area in a file that says it");
  return area_of(layer);
}

namespace {

std::string name_of(const Feature& f) {
  for (const char* key : {"name", "label", "id"})
    if (const Property* p = property_of(f, key); p && !text_of(*p).empty()) return text_of(*p);
  return {};
}

// Lines that begin where another ends become one, in the order of the file; also across the antimeridian.
std::vector<NamedLine> joined_lines(const Layer& layer) {
  std::vector<NamedLine> lines;
  for (Feature f : layer.features) {
    auto* l = std::get_if<LineString>(&f.geometry);
    if (!l || l->empty()) continue;
    LineString* last = lines.empty() ? nullptr : &lines.back().line;
    if (last && layer.crs && layer.crs.is_geographic())
      if (const double turn = last->back().x - l->front().x;
          std::remainder(turn, 360) == 0 && last->back().y == l->front().y)
        for (Point& p : *l) p.x += turn;
    if (!last || !(last->back() == l->front())) {
      lines.push_back({name_of(f), *l, f.times});
      continue;
    }
    std::vector<double>& times = lines.back().times;
    if (f.times.empty() || times.empty())
      times.clear();
    else
      times.insert(times.end(), f.times.begin() + 1, f.times.end());
    last->insert(last->end(), l->begin() + 1, l->end());
  }
  return lines;
}

}  // namespace

std::vector<NamedLine> read_lines(const fs::path& path, const Crs& crs, std::vector<std::string>* notes) {
  // A table that does not say where its points lie, such as that of a section, is in the grid's CRS.
  const Layer layer = read_layer(path, crs);
  std::vector<NamedLine> lines = joined_lines(layer);
  if (lines.empty()) {
    LineString through;
    for (const Feature& f : layer.features)
      if (const Point* p = std::get_if<Point>(&f.geometry)) through.push_back(*p);
    if (through.size() > 1) {
      lines.push_back({"", std::move(through)});
      if (notes)
        notes->push_back(fmt::format("{}: has points and no line; the line goes through them in their order",
                                     path.filename().string()));
    }
  }
  if (lines.empty()) throw Error(ErrorCode::BadFile, "has no line in it", path.string(), "give the transect as a line");
  std::size_t n = 0;
  for (NamedLine& l : lines) {
    // A, B ... Z, AA ...
    std::string letters;
    for (std::size_t k = n + 1; k > 0; k = (k - 1) / 26)
      letters.insert(letters.begin(), static_cast<char>('A' + (k - 1) % 26));
    if (l.name.empty() && lines.size() > 1) l.name = letters;
    ++n;
    if (layer.crs && crs) Transform(layer.crs, crs).forward(l.line);
    for (Point p : l.line)
      if (std::isnan(p.x))
        throw Error(ErrorCode::BadFile, "its line leaves the range of the grid's CRS", path.string());
  }
  return lines;
}

LineString read_line(const fs::path& path, const Crs& crs, std::vector<std::string>* notes) {
  std::vector<NamedLine> lines = read_lines(path, crs, notes);
  if (lines.size() > 1 && notes)
    notes->push_back(
        fmt::format("{}: has {} lines that do not meet; the first is taken", path.filename().string(), lines.size()));
  return std::move(lines.front().line);
}

}  // namespace katoptra
