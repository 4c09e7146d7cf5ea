// Opening and writing points: the format by content or extension, then what all have in common.
#include "katoptra/formats/point_file.hpp"

#include <algorithm>
#include <chrono>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/http.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/points/select.hpp"

#include "base/text.hpp"
#include "format_row.hpp"
#include "formats/las/las_source.hpp"
#include "formats/las/las_write.hpp"
#include "formats/text/text_points.hpp"
#include "readers.hpp"
#include "told_beside.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

// References and dates from beside the file, through the same code as for grids.
void complete(const Located& located, const fs::path& path, const OpenOptions& options, PointFile& file) {
  GridInfo info;
  FileFacts facts;
  facts.path = path;
  facts.date = file.facts.date;
  info.quantity = file.cloud.info().quantity;
  if (file.cloud.info().crs) info.frame = info.frame.with_crs(file.cloud.info().crs);
  complete_references(located, info, facts, options);
  PointFileFacts& f = file.facts;
  f.path = path;
  f.beside = facts.beside;
  f.problems.insert(f.problems.end(), facts.problems.begin(), facts.problems.end());
  f.date = facts.date;
  f.survey = facts.survey;
  if (f.date.empty()) {
    f.date = located.bytes->changed();
    if (f.date.empty()) f.date = file_date(located.on_disk);
    f.date_guessed = true;
  }
  // Text may have said itself that it holds depths: they have been turned.
  if (file.facts.depths_turned) info.quantity.heights = info.quantity.heights.as_heights();
  file.cloud = relabelled(file.cloud, [&](PointInfo& p) {
    p.name = is_url(path.native()) ? url_file_name(path.native()) : path.filename().string();
    p.crs = info.frame.crs();
    p.quantity = info.quantity;
    p.sources = {{.name = p.name,
                  .survey = f.survey,
                  .date = f.date,
                  .date_guessed = f.date_guessed,
                  .cell = {},
                  .treatment = {}}};
  });
}

}  // namespace

PointFile open_point_file(const fs::path& path, const PointOpenOptions& options) {
  const Located located = locate(path);
  const FormatRow* row = row_recognising(located);
  if (!row || !row->open_points)
    throw Error(ErrorCode::BadFile, "is not in a format of points that is read here", path.string(),
                "give a LAS, LAZ or COPC file, or text with x, y and z on each line");
  PointFile file = row->open_points(located, options);
  complete(located, path, options.open, file);
  if (file.cloud.info().quantity.heights.is_depth()) file.cloud = depths_as_heights(file.cloud);
  return file;
}

PointCloud open_points(const fs::path& path, const PointOpenOptions& options) {
  return open_point_file(path, options).cloud;
}

bool looks_like_points(const fs::path& path) {
  try {
    if (is_point_name(path.string())) return true;
    // Only the content of this file: nothing beside it is asked for, which on the web would be a request each.
    const Located file = as_it_stands(open_file(path), path);
    const auto head = file.bytes->head(4096);
    const auto& rows = format_rows();
    return std::any_of(rows.begin(), rows.end(),
                       [&](const FormatRow& r) { return r.open_points && r.facts.sure && r.recognises(file, head); });
  } catch (const Error&) {
    return false;
  }
}

std::vector<Breakline> read_breaklines(const fs::path& path, const Crs& crs) {
  const Layer layer = read_layer(path);
  std::optional<Transform> there;
  if (layer.crs && crs && !layer.crs.same_place(crs)) there.emplace(layer.crs, crs);
  std::vector<Breakline> out;
  auto add = [&](LineString line, const Feature& f) {
    Breakline b{std::move(line), f.heights};
    for (const auto& [name, value] : f.properties) {
      const std::string n = lower_case(name);
      if (!b.heights.empty() || (n != "z" && n != "height" && n != "level")) continue;
      if (const auto* number = std::get_if<double>(&value)) b.heights.assign(b.line.size(), *number);
      if (const auto* whole = std::get_if<std::int64_t>(&value))
        b.heights.assign(b.line.size(), static_cast<double>(*whole));
    }
    if (b.heights.size() != b.line.size())
      throw Error(ErrorCode::BadFile, "a line has neither third coordinates nor a property z, height or level",
                  path.string(), "breaklines need heights");
    if (there) there->forward(b.line);
    out.push_back(std::move(b));
  };
  for (const Feature& f : layer.features) {
    if (const auto* l = std::get_if<LineString>(&f.geometry)) add(*l, f);
    if (const auto* shape = std::get_if<MultiPolygon>(&f.geometry))
      for (const Polygon& p : *shape) {
        add(p.outer, f);
        for (const Ring& hole : p.holes) add(hole, f);
      }
  }
  if (out.empty())
    throw Error(ErrorCode::BadFile, "has no line in it", path.string(), "give breaklines as lines with heights");
  return out;
}

PointWriteReport write_points(const PointCloud& cloud, const fs::path& path, const PointWriteOptions& options) {
  const auto start = std::chrono::steady_clock::now();
  const FormatRow* row = row_of(path, Holds::Points, Use::Written);
  if (!row)
    throw Error(ErrorCode::Unsupported,
                fmt::format("'{}' is no format that points are written in", lower_extension(path)), path.string(),
                "end the name in .laz, .las, .csv, .txt or .xyz");
  PointWriteReport report;
  report.path = path;
  report.info = cloud.info();
  const auto sink = create_file(path, {.overwrite = options.overwrite});
  std::unique_ptr<ByteSink> beside;
  const fs::path references = path.string() + ".json";
  if (!row->facts.alone) {
    beside = create_file(references, {.overwrite = options.overwrite});
    const std::string words = references_beside(cloud.info());
    beside->write_at(0, {reinterpret_cast<const std::uint8_t*>(words.data()), words.size()});
  }
  try {
    row->write_points(cloud, *sink, options, report);
  } catch (const Error& e) {
    if (!e.where().empty()) throw;
    throw Error(e.code(), e.problem(), path.string(), e.advice());
  }
  if (beside) {
    beside->commit();
    report.beside.push_back(references);
  }
  sink->commit();
  report.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  return report;
}

}  // namespace katoptra
