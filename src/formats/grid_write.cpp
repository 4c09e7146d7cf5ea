// Writing a grid: the format by its extension, the row formats' common loop, and what stands beside a file.
#include <algorithm>
#include <chrono>
#include <cmath>
#include <fmt/format.h>
#include <iterator>
#include <limits>
#include <set>

#include "katoptra/base/error.hpp"

#include "base/ranks.hpp"
#include "base/text.hpp"
#include "format_row.hpp"
#include "lineage_file.hpp"
#include "samples.hpp"
#include "told_beside.hpp"
#include "writers.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

struct Measure {
  std::int64_t cells = 0, voids = 0;
  float lowest = std::numeric_limits<float>::infinity(), highest = -std::numeric_limits<float>::infinity();
  void add(const Block& b) {
    cells += b.window().cells();
    for (std::int64_t i = 0; i < b.window().cells(); ++i) {
      const float v = b.row(0)[i];
      if (std::isnan(v)) {
        ++voids;
      } else {
        lowest = std::min(lowest, v);
        highest = std::max(highest, v);
      }
    }
  }
  void add(const Measure& o) {
    cells += o.cells;
    voids += o.voids;
    lowest = std::min(lowest, o.lowest);
    highest = std::max(highest, o.highest);
  }
};

struct EncodedBand {
  Window window;
  std::vector<std::uint8_t> bytes;
  Measure measure;
  Sureness sureness;
};

Measure write_bands(const Grid& grid, RowWriter& writer, const RunOptions& run, Sureness& sureness) {
  Measure all;
  map_bands(
      grid, planes_with(false, writer.writes_uncertainty()), 0, run,
      [&](const Block& block, const Window& band) -> std::shared_ptr<void> {
        auto e = std::make_shared<EncodedBand>();
        e->window = band;
        e->bytes = writer.encode(block);
        e->measure.add(block);
        if (const float* u = block.uncertainty_row(0))
          for (std::int64_t i = 0; i < band.cells(); ++i) e->sureness.add(u[i]);
        return e;
      },
      [&](std::shared_ptr<void> result) {
        const auto& e = *static_cast<EncodedBand*>(result.get());
        writer.place(e.window, e.bytes);
        all.add(e.measure);
        sureness.add(e.sureness);
      });
  return all;
}

}  // namespace

// What all sources agree on is true of the whole.
WriteOptions with_agreed_facts(WriteOptions o, const GridInfo& info) {
  const auto& s = info.sources;
  if (s.empty()) return o;
  const bool same_date =
      std::all_of(s.begin(), s.end(), [&](const SourceRecord& r) { return r.date == s[0].date && !r.date_guessed; });
  const bool same_survey =
      std::all_of(s.begin(), s.end(), [&](const SourceRecord& r) { return r.survey == s[0].survey; });
  if (o.date.empty() && same_date) o.date = s[0].date;
  if (o.survey.empty() && same_survey) o.survey = s[0].survey;
  return o;
}

StoredAs stored_plainly(const GridInfo& info, const WriteOptions& options, const std::string& file) {
  StoredAs as = stored_as(info, options.void_value, file);
  if (std::isnan(as.void_value)) as.void_value = -9999;
  return as;
}

std::pair<double, double> extremes_of(const Grid& grid, const RunOptions& run) {
  Measure all;
  map_bands(
      grid, Planes::Values, 0, run,
      [](const Block& band, const Window&) -> std::shared_ptr<void> {
        auto m = std::make_shared<Measure>();
        m->add(band);
        return m;
      },
      [&](std::shared_ptr<void> m) { all.add(*static_cast<Measure*>(m.get())); });
  return {static_cast<double>(all.lowest), static_cast<double>(all.highest)};
}

WriteReport write_rows(const Grid& grid, const fs::path& path, const WriteOptions& options, const StoredAs& as,
                       std::unique_ptr<RowWriter> writer) {
  WriteReport report;
  report.path = path;
  report.info = grid.info();
  report.type = as.type;
  report.void_value = as.void_value;
  report.compression = "none";
  // A lineage that may not be written is told before hours of work, not after them.
  if (options.lineage) create_file(lineage_path_for(path), {.overwrite = options.overwrite});
  Sureness sureness;
  const Measure m = write_bands(grid, *writer, options.run, sureness);
  report.uncertainty = sureness.told();
  if (options.uncertainty && grid.carries_uncertainty() && !writer->writes_uncertainty())
    report.info.notes.push_back("its uncertainty is left out: GeoTIFF, NetCDF, BAG and S-102 have room for it");
  report.cells = m.cells;
  report.voids = m.voids;
  const bool any = m.cells > m.voids;
  report.lowest = any ? static_cast<double>(m.lowest) : std::nan("");
  report.highest = any ? static_cast<double>(m.highest) : std::nan("");
  if (options.lineage) {
    report.lineage_path = lineage_path_for(path);
    write_lineage(grid, report.lineage_path, options, report);
    write_lineage_table(path, grid.info(), options.overwrite);
  }
  writer->finish(report);
  return report;
}

WriteReport write_grid(const Grid& grid, const fs::path& path, const WriteOptions& given) {
  const WriteOptions options = with_agreed_facts(given, grid.info());
  const auto start = std::chrono::steady_clock::now();
  const FormatRow* row = row_of(path, Holds::Grids, Use::Written);
  if (!row)
    throw Error(ErrorCode::Unsupported, fmt::format("grids are not written as '{}' here", lower_extension(path)),
                path.string(),
                "give a name that ends in .tif, .asc, .flt, .bil, .hgt, .dt2, .nc, .bag, .h5, .xyz or .png");
  // Processes that share the work read parts of it each.
  if (!work_is_shared()) grid.expect(grid.frame().window());
  WriteReport report;
  try {
    report = row->write_grid(grid, path, options);
  } catch (const VoidCollision&) {
    // Bytes often use all their values: the next wider type has room for voids.
    const GridInfo& info = grid.info();
    if (bytes_per_sample(info.type) != 1 || info.file_void || options.void_value) throw;
    report = row->write_grid(relabelled(grid, [](GridInfo& i) { i.type = SampleType::Int16; }), path, options);
  }
  // A lineage that belonged to the file replaced here would be taken for that of the new one.
  if (!options.lineage && options.overwrite) remove_lineage_beside(path);
  report.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  return report;
}

namespace {

bool becomes_tiff(const GridTarget& t) {
  const FormatRow* row = row_of(t.path, Holds::Grids, Use::Written);
  return row && row->write_grid == &write_tiff;
}

// Writes those that go together; false when one of them needs a wider type, which write_grid finds for it.
bool write_together(const Grid& surface, const std::vector<GridTarget>& targets, const WriteOptions& options,
                    std::vector<WriteReport>& reports) {
  const auto start = std::chrono::steady_clock::now();
  try {
    reports = write_tiffs(surface, targets, options);
  } catch (const VoidCollision&) {
    return false;
  }
  for (WriteReport& r : reports) {
    if (!options.lineage && options.overwrite) remove_lineage_beside(r.path);
    r.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  }
  return true;
}

}  // namespace

std::vector<WriteReport> write_grids(const Grid& surface, const std::vector<GridTarget>& targets,
                                     const WriteOptions& options) {
  std::set<fs::path> paths;
  for (const GridTarget& t : targets)
    if (!paths.insert(t.path.lexically_normal()).second)
      throw Error(ErrorCode::BadArgument, "is the name of two of the files", t.path.string(), "give each its own");
  std::vector<GridTarget> together;
  std::copy_if(targets.begin(), targets.end(), std::back_inserter(together), becomes_tiff);
  std::vector<WriteReport> ready, reports;
  const bool one_pass = together.size() > 1 && write_together(surface, together, options, ready);
  std::size_t next = 0;
  for (const GridTarget& t : targets)
    reports.push_back(one_pass && becomes_tiff(t) ? std::move(ready[next++])
                                                  : write_grid(t.make(surface), t.path, options));
  return reports;
}

void FilesBeside::add(const fs::path& path, const std::string& text) {
  std::error_code ec;
  if (fs::is_regular_file(path, ec) && fs::file_size(path, ec) == text.size() && !text.empty() &&
      read_text_file(path) == text) {
    files_.emplace_back(path, nullptr);
    return;
  }
  auto sink = create_file(path, {.overwrite = options_.overwrite});
  sink->write_at(0, std::span(reinterpret_cast<const std::uint8_t*>(text.data()), text.size()));
  files_.emplace_back(path, std::move(sink));
}

void FilesBeside::remove(const fs::path& path) {
  std::error_code ec;
  if (!fs::exists(path, ec)) return;
  if (!options_.overwrite)
    throw Error(ErrorCode::Io, "is there already, and would be taken for what the new file says", path.string(),
                "choose another name or say --overwrite");
  stale_.push_back(path);
}

void FilesBeside::commit(WriteReport& report) {
  std::error_code ec;
  for (const fs::path& path : stale_) fs::remove(path, ec);
  for (auto& [path, sink] : files_) {
    if (sink) sink->commit();
    report.beside.push_back(path);
  }
}

void FilesBeside::add_references(const fs::path& path, const GridInfo& info) {
  const fs::path prj = fs::path(path).replace_extension(".prj"), facts = path.string() + ".json";
  const Quantity& q = info.quantity;
  // The unit of a vertical system may be another than that of the values, which a .prj cannot say.
  const bool odd_unit = q.unit_known && q.heights.known() && !q.heights.is_ellipsoid() && q.heights.unit() != q.unit;
  if (info.frame.crs())
    add(prj, info.frame.crs().with_heights(odd_unit ? HeightReference() : q.heights).file_wkt() + "\n");
  else
    remove(prj);
  const std::string told = references_beside(q, options_.date, options_.survey);
  if (told.empty())
    remove(facts);
  else
    add(facts, told);
}

}  // namespace katoptra
