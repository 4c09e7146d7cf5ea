// A picture as GeoTIFF, laid out to be read from afar: header first, tiles, overviews.
#include <fmt/format.h>
#include <string>

#include "katoptra/base/error.hpp"
#include "katoptra/version.hpp"

#include "formats/tiff/tiff_codec.hpp"
#include "formats/tiff/tiff_layout.hpp"
#include "image_writers.hpp"
#include "tile_pyramid.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

constexpr std::int64_t kTile = 256;
constexpr int kDeflateLevel = 4;

class TiffImage final : public ImageWriter {
 public:
  TiffImage(const PlacedImage& image, const fs::path& path, const ImageWriteOptions& options)
      : frame_(image.frame),
        path_(path),
        overwrite_(options.overwrite),
        name_(image.name),
        geo_(tiff::write_geo_tags(frame_.crs(), Quantity{.kind = QuantityKind::Shade, .other_unit = {}, .heights = {}},
                                  frame_.bounds())),
        sink_(create_file(path, {.overwrite = options.overwrite})),
        pyramid_(frame_.cols(), frame_.rows(), kTile,
                 [this](std::size_t level, std::int64_t col, std::int64_t row, const Pixels& tile) {
                   put(level, col, row, tile);
                 }) {
    double raw = 0;
    for (const auto& l : pyramid_.levels()) {
      const auto n = static_cast<std::size_t>(l.across * l.down);
      offsets_.emplace_back(n, 0);
      counts_.emplace_back(n, 0);
      raw += static_cast<double>(n) * (1.01 * kTile * kTile * 4 + 64);
    }
    big_ = raw > 4.0e9;
    end_ = head().size();
  }
  void add(const Pixels& rows) override { pyramid_.add(rows); }
  void finish(ImageReport& report) override {
    if (!geo_.complete) {
      const fs::path prj = fs::path(path_).replace_extension(".prj");
      write_text_file(prj, frame_.crs().with_heights({}).file_wkt() + "\n", {.overwrite = overwrite_});
      report.beside.push_back(prj);
    }
    sink_->write_at(0, head());
    sink_->commit();
    report.bytes = end_;
    report.format = "GeoTIFF";
  }

 private:
  void put(std::size_t level, std::int64_t col, std::int64_t row, const Pixels& tile) {
    const auto i = static_cast<std::size_t>(row * pyramid_.levels()[level].across + col);
    Pixels bytes = tile;
    // Difference to the pixel before, of each colour.
    for (std::size_t r = 0; r < static_cast<std::size_t>(kTile); ++r)
      for (std::size_t c = static_cast<std::size_t>(kTile) * 4 - 1; c >= 4; --c) {
        std::uint8_t* line = bytes.data() + r * static_cast<std::size_t>(kTile) * 4;
        line[c] = static_cast<std::uint8_t>(line[c] - line[c - 4]);
      }
    const auto packed = tiff::compress(bytes, tiff::kDeflate, kDeflateLevel);
    end_ += end_ & 1;
    sink_->write_at(end_, packed);
    offsets_[level][i] = end_;
    counts_[level][i] = packed.size();
    end_ += packed.size();
  }
  std::vector<std::uint8_t> head() const {
    using tiff::longs, tiff::shorts;
    std::vector<std::vector<tiff::Tag>> levels;
    for (std::size_t which = 0; which < pyramid_.levels().size(); ++which) {
      const auto& l = pyramid_.levels()[which];
      std::vector<tiff::Tag> t;
      t.push_back(longs(254, {which == 0 ? 0u : 1u}, false));
      t.push_back(longs(256, {static_cast<std::uint64_t>(l.cols)}, false));
      t.push_back(longs(257, {static_cast<std::uint64_t>(l.rows)}, false));
      t.push_back(shorts(258, {8, 8, 8, 8}));
      t.push_back(shorts(259, {static_cast<std::uint16_t>(tiff::kDeflate)}));
      t.push_back(shorts(262, {2}));
      if (which == 0) t.push_back(tiff::text(270, fmt::format("Katoptra {}; picture of {}", KATOPTRA_VERSION, name_)));
      t.push_back(shorts(277, {4}));
      t.push_back(shorts(284, {1}));
      t.push_back(shorts(317, {2}));
      t.push_back(longs(322, {static_cast<std::uint64_t>(kTile)}, false));
      t.push_back(longs(323, {static_cast<std::uint64_t>(kTile)}, false));
      t.push_back(longs(324, offsets_[which], big_));
      t.push_back(longs(325, counts_[which], false));
      t.push_back(shorts(338, {2}));  // the fourth is opacity, not multiplied in
      t.push_back(shorts(339, {1, 1, 1, 1}));
      if (which == 0) tiff::append_place(t, frame_, geo_);
      levels.push_back(std::move(t));
    }
    return tiff::head_of(levels, big_);
  }

  Frame frame_;
  fs::path path_;
  bool overwrite_, big_ = false;
  std::string name_;
  tiff::GeoTags geo_;
  std::unique_ptr<ByteSink> sink_;
  TilePyramid pyramid_;
  std::vector<std::vector<std::uint64_t>> offsets_, counts_;
  std::uint64_t end_ = 0;
};

}  // namespace

std::unique_ptr<ImageWriter> tiff_image(const PlacedImage& i, const fs::path& p, const ImageWriteOptions& o) {
  return std::make_unique<TiffImage>(i, p, o);
}

}  // namespace katoptra
