// Flat binary (.flt, .bil, .bip, .bsq; with one value a cell the three layouts are one).
#include <cmath>
#include <cstring>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"

#include "base/text.hpp"
#include "formats/tiff/tiff_codec.hpp"
#include "formats/writers.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

class FlatWriter final : public SequentialWriter {
 public:
  FlatWriter(const fs::path& path, const GridInfo& info, const StoredAs& as, const WriteOptions& options)
      : SequentialWriter(path, info, options), as_(as) {
    const Frame& f = info.frame;
    if (corners() && std::abs(f.cell().x - f.cell().y) > kLatticeTolerance * f.cell().x)
      throw Error(ErrorCode::Unsupported, "its header has one cell size, and these cells are oblong", path.string(),
                  "write .bil or .tif");
    beside_.add(fs::path(path).replace_extension(".hdr"), header_text());
    beside_.add_references(path, info);
  }
  std::vector<std::uint8_t> encode(const Block& rows) const override {
    const auto n = static_cast<std::size_t>(rows.window().cells());
    std::vector<std::uint8_t> out(n * static_cast<std::size_t>(bytes_per_sample(as_.type)));
    floats_to_samples(rows.row(0), n, as_, out.data(), path_.string());
    return out;
  }
  void finish(WriteReport& report) override {
    SequentialWriter::finish(report);
    report.format = "flat binary";
    report.type = as_.type;
  }

 private:
  bool corners() const { return lower_extension(path_) == ".flt"; }
  std::string header_text() const {
    const Frame& f = info_.frame;
    if (corners())
      return fmt::format(
          "ncols {}\nnrows {}\nxllcorner {}\nyllcorner {}\ncellsize {}\nNODATA_value {}\nbyteorder LSBFIRST\n",
          f.cols(), f.rows(), f.west(), f.south(), f.cell().x, as_.void_value);
    const char* kind = !is_integer(as_.type) ? "FLOAT" : lowest_of(as_.type) < 0 ? "SIGNEDINT" : "UNSIGNEDINT";
    const Point first = f.centre(0, 0);
    std::string layout = lower_extension(path_).substr(1);
    for (char& c : layout) c = static_cast<char>(std::toupper(static_cast<unsigned char>(c)));
    return fmt::format(
        "BYTEORDER I\nLAYOUT {}\nNROWS {}\nNCOLS {}\nNBANDS 1\nNBITS {}\nPIXELTYPE {}\nULXMAP {}\nULYMAP {}\nXDIM {}\n"
        "YDIM {}\nNODATA {}\n",
        layout, f.rows(), f.cols(), 8 * bytes_per_sample(as_.type), kind, first.x, first.y, f.cell().x, f.cell().y,
        as_.void_value);
  }

  StoredAs as_;
};

}  // namespace

WriteReport write_flat(const Grid& given, const fs::path& path, const WriteOptions& options) {
  // .flt holds floats and nothing else.
  const Grid grid =
      lower_extension(path) == ".flt" ? relabelled(given, [](GridInfo& i) { i.type = SampleType::Float32; }) : given;
  const StoredAs as = stored_plainly(grid.info(), options, path.string());
  return write_rows(grid, path, options, as, std::make_unique<FlatWriter>(path, grid.info(), as, options));
}

}  // namespace katoptra
