// Text formats: ASCII grid and XYZ. A value is written with the fewest digits that give the same 32-bit float again.
#include <cmath>
#include <fmt/format.h>
#include <iterator>

#include "katoptra/base/error.hpp"

#include "formats/writers.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

std::span<const std::uint8_t> as_bytes(const std::string& text) {
  return {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()};
}
std::vector<std::uint8_t> to_bytes(const fmt::memory_buffer& text) {
  return {reinterpret_cast<const std::uint8_t*>(text.data()),
          reinterpret_cast<const std::uint8_t*>(text.data()) + text.size()};
}

class TextWriter : public SequentialWriter {
 public:
  TextWriter(const fs::path& path, const GridInfo& info, const WriteOptions& options)
      : SequentialWriter(path, info, options) {
    beside_.add_references(path, info);
  }

 protected:
  void begin(const std::string& text) { place({}, as_bytes(text)); }
};

class AsciiWriter final : public TextWriter {
 public:
  AsciiWriter(const fs::path& path, const GridInfo& info, const StoredAs& as, const WriteOptions& options)
      : TextWriter(path, info, options), as_(as) {
    const Frame& f = info.frame;
    // Cells that differ by less than can be seen over the whole grid are square.
    const double longest = static_cast<double>(std::max(f.cols(), f.rows()));
    const bool square = std::abs(f.cell().x - f.cell().y) * longest < kLatticeTolerance * f.cell().x;
    begin(fmt::format("ncols {}\nnrows {}\nxllcorner {}\nyllcorner {}\n", f.cols(), f.rows(), f.west(), f.south()) +
          (square ? fmt::format("cellsize {}\n", f.cell().x) : fmt::format("dx {}\ndy {}\n", f.cell().x, f.cell().y)) +
          fmt::format("NODATA_value {}\n", as_.void_value));
  }
  std::vector<std::uint8_t> encode(const Block& rows) const override {
    fmt::memory_buffer text;
    const auto hole = static_cast<float>(as_.void_value);
    for (std::int64_t r = 0; r < rows.window().rows; ++r)
      for (std::int64_t c = 0; c < rows.window().cols; ++c) {
        const float v = rows.at(c, r);
        if (v == hole)
          throw Error(ErrorCode::BadArgument,
                      fmt::format("{} is the void value and also a value of the data", as_.void_value), path_.string(),
                      "choose another with --void");
        if (std::isnan(v))
          fmt::format_to(std::back_inserter(text), "{}", as_.void_value);
        else
          fmt::format_to(std::back_inserter(text), "{}", v);
        text.push_back(c + 1 < rows.window().cols ? ' ' : '\n');
      }
    return to_bytes(text);
  }
  void finish(WriteReport& report) override {
    TextWriter::finish(report);
    report.format = "ASCII grid";
  }

 private:
  StoredAs as_;
};

class XyzWriter final : public TextWriter {
 public:
  XyzWriter(const fs::path& path, const GridInfo& info, const WriteOptions& options) : TextWriter(path, info, options) {
    begin(info.frame.crs().is_geographic() ? "lon lat z\n" : "x y z\n");
  }
  std::vector<std::uint8_t> encode(const Block& rows) const override {
    fmt::memory_buffer text;
    const Window& w = rows.window();
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) {
        const float v = rows.at(c, r);
        if (std::isnan(v)) continue;
        const Point p = info_.frame.centre(static_cast<double>(w.col + c), static_cast<double>(w.row + r));
        fmt::format_to(std::back_inserter(text), "{:.12g} {:.12g} {}\n", p.x, p.y, v);
      }
    return to_bytes(text);
  }
  void finish(WriteReport& report) override {
    TextWriter::finish(report);
    report.format = "XYZ text";
  }
};

}  // namespace

WriteReport write_ascii_grid(const Grid& grid, const fs::path& path, const WriteOptions& options) {
  const StoredAs as = stored_plainly(grid.info(), options, path.string());
  return write_rows(grid, path, options, as, std::make_unique<AsciiWriter>(path, grid.info(), as, options));
}

WriteReport write_xyz(const Grid& grid, const fs::path& path, const WriteOptions& options) {
  const StoredAs as = stored_plainly(grid.info(), options, path.string());
  WriteReport report = write_rows(grid, path, options, as, std::make_unique<XyzWriter>(path, grid.info(), options));
  report.void_value.reset();  // voids are left out
  return report;
}

}  // namespace katoptra
