// DTED levels 0 to 2 (MIL-PRF-89020B): one-degree cells of heights at nodes, in records that run from the south, one
// for each meridian from the west. Samples are 16 bits, sign and magnitude, the high byte first; -32767 is a void. The
// further from the equator, the fewer meridians. Heights are metres above mean sea level, which is EGM96 unless the
// file says EGM2008; what it states as its accuracy (90 %, linear) becomes the uncertainty.
#include <array>
#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <map>
#include <optional>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/grid/uncertainty.hpp"

#include "base/text.hpp"
#include "formats/flat/whole_metres.hpp"
#include "formats/readers.hpp"
#include "formats/rows_source.hpp"
#include "formats/writers.hpp"

namespace katoptra {
namespace {

constexpr std::uint64_t kUhl = 80, kDsi = 648, kAcc = 2700, kData = kUhl + kDsi + kAcc;
constexpr std::int64_t kRecordHead = 8, kRecordTail = 4;
constexpr double kHole = -32767;
constexpr double k90 = 1.6449;  // standard errors that hold 90 of 100 on either side

struct CellHead {
  Point corner;                   // the south-west node, degrees
  double step_x = 0, step_y = 0;  // degrees
  std::int64_t cols = 0, rows = 0;
  std::string heights;             // "MSL", "E96", "E08"
  std::optional<double> accuracy;  // metres, 90 %
  std::string edition_date;
  std::int64_t record() const { return kRecordHead + 2 * rows + kRecordTail; }
};

[[noreturn]] void damaged_cell(const std::string& what, const std::string& file) {
  throw Error(ErrorCode::BadFile, what, file, "it is damaged; fetch it again");
}

// What stands in a field, without what no terminal shows.
std::string visible(std::string text) {
  for (char& c : text)
    if (c < ' ' || c > '~') c = '?';
  return text;
}

// A number, where the field holds one: "NA" is none.
std::optional<double> digits_if(const std::string& text) {
  std::string t = text;
  while (!t.empty() && t.back() == ' ') t.pop_back();
  if (t.empty() || t.find_first_not_of("0123456789") != t.npos) return std::nullopt;
  return parse_number(t);
}

// A field of digits.
std::int64_t digits(const std::string& head, std::size_t at, std::size_t n, const char* what, const std::string& file) {
  const auto v = digits_if(head.substr(at, n));
  if (!v) damaged_cell(fmt::format("its header has '{}' for {}", visible(head.substr(at, n)), what), file);
  return static_cast<std::int64_t>(*v);
}

// "0310000W": degrees, minutes, seconds and the side.
double place(const std::string& head, std::size_t at, bool longitude, const std::string& file) {
  const char* what = longitude ? "a longitude" : "a latitude";
  const auto d = static_cast<double>(digits(head, at, 3, what, file)),
             m = static_cast<double>(digits(head, at + 3, 2, what, file)),
             s = static_cast<double>(digits(head, at + 5, 2, what, file));
  const char side = head[at + 7];
  const bool minus = side == 'W' || side == 'S',
             known = longitude ? side == 'E' || side == 'W' : side == 'N' || side == 'S';
  const double v = d + m / 60 + s / 3600;
  if (!known || v > (longitude ? 180 : 90))
    damaged_cell(fmt::format("its header places it at {} {}{}", what, v, side), file);
  return minus ? -v : v;
}

CellHead read_cell_head(const ByteSource& bytes) {
  const std::string& file = bytes.name();
  if (bytes.size() < kData) damaged_cell("ends within its header", file);
  std::vector<std::uint8_t> raw(kData);
  bytes.read_exactly(0, raw);
  const std::string head(raw.begin(), raw.end()), dsi = head.substr(kUhl, kDsi), acc = head.substr(kUhl + kDsi);
  if (!dsi.starts_with("DSI") || !acc.starts_with("ACC")) damaged_cell("its header has no DSI and ACC records", file);
  CellHead h;
  h.corner = {place(head, 4, true, file), place(head, 12, false, file)};
  h.step_x = static_cast<double>(digits(head, 20, 4, "its interval of longitude", file)) / 36000;
  h.step_y = static_cast<double>(digits(head, 24, 4, "its interval of latitude", file)) / 36000;
  h.cols = digits(head, 47, 4, "its meridians", file);
  h.rows = digits(head, 51, 4, "its parallels", file);
  if (h.step_x <= 0 || h.step_y <= 0 || h.cols < 2 || h.rows < 2)
    damaged_cell(
        fmt::format("its header claims {} x {} heights every {:g} x {:g} degrees", h.cols, h.rows, h.step_x, h.step_y),
        file);
  h.heights = dsi.substr(141, 3);
  if (const auto m = digits_if(acc.substr(7, 4))) h.accuracy = *m;
  const std::string yymm = dsi.substr(159, 4);
  if (const auto d = digits_if(yymm); d && yymm != "0000")
    h.edition_date = fmt::format("{}{}-{}-01", yymm[0] >= '5' ? "19" : "20", yymm.substr(0, 2), yymm.substr(2, 2));
  const auto wanted = kData + static_cast<std::uint64_t>(h.cols) * static_cast<std::uint64_t>(h.record());
  if (bytes.size() < wanted)
    damaged_cell(fmt::format("has {} bytes, and {} x {} heights take {}", bytes.size(), h.cols, h.rows, wanted), file);
  return h;
}

std::int16_t decoded(const std::uint8_t* two) {
  const int magnitude = (two[0] & 0x7f) << 8 | two[1];
  return static_cast<std::int16_t>(two[0] & 0x80 ? -magnitude : magnitude);
}

std::uint32_t sum_of(std::span<const std::uint8_t> record) {
  std::uint32_t sum = 0;
  for (const std::uint8_t b : record) sum += b;
  return sum;
}

// Records of meridians as rows from the north.
BlockCache::Bytes decode_cell(const ByteSource& bytes, const CellHead& h) {
  const auto size = static_cast<std::size_t>(h.record());
  std::vector<std::uint8_t> raw(size * static_cast<std::size_t>(h.cols));
  bytes.read_exactly(kData, raw);
  BlockCache::Bytes out(static_cast<std::size_t>(h.cols * h.rows * 2), 0);
  for (std::int64_t c = 0; c < h.cols; ++c) {
    const std::uint8_t* record = raw.data() + static_cast<std::size_t>(c) * size;
    if (record[0] != 0xAA) damaged_cell(fmt::format("record {} does not begin as one", c), bytes.name());
    const std::uint8_t* tail = record + size - kRecordTail;
    const std::uint32_t told = static_cast<std::uint32_t>(tail[0]) << 24 | static_cast<std::uint32_t>(tail[1]) << 16 |
                               static_cast<std::uint32_t>(tail[2]) << 8 | tail[3];
    if (told != sum_of({record, size - kRecordTail}))
      damaged_cell(fmt::format("the checksum of record {} (meridian {:.4f}) is wrong", c,
                          h.corner.x + static_cast<double>(c) * h.step_x),
              bytes.name());
    for (std::int64_t r = 0; r < h.rows; ++r) {
      const std::int16_t v = decoded(record + kRecordHead + 2 * (h.rows - 1 - r));
      std::memcpy(&out[static_cast<std::size_t>((r * h.cols + c) * 2)], &v, 2);
    }
  }
  return out;
}

}  // namespace

bool is_dted(std::span<const std::uint8_t> head) {
  return head.size() >= kUhl + 3 && std::memcmp(head.data(), "UHL1", 4) == 0 &&
         std::memcmp(head.data() + kUhl, "DSI", 3) == 0;
}

GridFile open_dted(const Located& located) {
  const std::shared_ptr<ByteSource> bytes = located.bytes;
  const CellHead h = read_cell_head(*bytes);
  GridFile out;
  GridInfo info;
  info.frame = NodeFrame{Crs::wgs84(),         h.corner.x, h.corner.y + static_cast<double>(h.rows - 1) * h.step_y,
                         {h.step_x, h.step_y}, h.cols,     h.rows}
                   .cells();
  info.quantity.heights = HeightReference::parse(h.heights == "E08" ? "EGM2008" : "EGM96");
  info.quantity.unit_known = true;
  if (h.heights != "E96" && h.heights != "E08")
    info.notes.push_back("its heights are above mean sea level, which DTED takes from EGM96");
  const SampleRule rule{.type = SampleType::Int16, .hole = kHole};
  describe_samples(rule, info);
  out.facts.format = "DTED";
  out.facts.layout = "meridians";
  out.facts.pixel_is_point = true;
  out.facts.date = h.edition_date;
  out.grid = grid_of_rows(std::move(info), rule, h.rows,
                          [bytes, h](std::int64_t, std::int64_t) { return decode_cell(*bytes, h); });
  if (h.accuracy && *h.accuracy > 0)
    out.grid = with_uncertainty(out.grid, UncertaintyModel{.constant = Length::metres(*h.accuracy / k90)});
  return out;
}

// ------------------------------------------------------------------------------------------------------- writing

namespace {

// Seconds between parallels by level, and how many times as far apart meridians are.
constexpr int kLevelSeconds[] = {30, 3, 1};
int widening(double south) {
  // The zone of a cell is that of its edge nearer to the equator.
  const double near = south >= 0 ? south : -(south + 1);
  return near < 50 ? 1 : near < 70 ? 2 : near < 75 ? 3 : near < 80 ? 4 : 6;
}

CellHead cell_head_of(Point corner, int level) {
  const double step = kLevelSeconds[level] / 3600.0;
  const int wide = widening(corner.y);
  CellHead h{
      .corner = corner, .step_x = step * wide, .step_y = step, .heights = "E96", .accuracy = {}, .edition_date = {}};
  h.rows = 3600 / kLevelSeconds[level] + 1;
  h.cols = 3600 / (kLevelSeconds[level] * wide) + 1;
  return h;
}

int level_of(const std::filesystem::path& path) { return lower_extension(path).back() - '0'; }

Frame frame_of(const CellHead& h) {
  return NodeFrame{Crs::wgs84(), h.corner.x, h.corner.y + 1, {h.step_x, h.step_y}, h.cols, h.rows}.cells();
}

std::string angle_text(double degrees, bool longitude, const char* after = "") {
  const char side = longitude ? (degrees < 0 ? 'W' : 'E') : degrees < 0 ? 'S' : 'N';
  const int d = static_cast<int>(std::lround(std::abs(degrees)));
  return longitude || *after == '!' ? fmt::format("{:03}0000{}", d, side) : fmt::format("{:02}0000{}", d, side);
}

// Accuracies are not known ("NA"), as what made the grid may be anything.
std::string head_of(const CellHead& h, int level) {
  const auto put = [](std::string& record, std::size_t at, const std::string& text) {
    record.replace(at, text.size(), text);
  };
  const auto tenths = [](double degrees) { return fmt::format("{:04}", std::lround(degrees * 36000)); };
  std::string uhl(kUhl, ' '), dsi(kDsi, ' '), acc(kAcc, ' ');
  put(uhl, 0,
      "UHL1" + angle_text(h.corner.x, true) + angle_text(h.corner.y, false, "!") + tenths(h.step_x) + tenths(h.step_y) +
          "NA  U");
  put(uhl, 47, fmt::format("{:04}{:04}0", h.cols, h.rows));
  put(dsi, 0, "DSIU");
  put(dsi, 59, fmt::format("DTED{}", level));
  put(dsi, 87, "01A000000000000");
  put(dsi, 126, "PRF89020B00");
  put(dsi, 137, "0005E96WGS84");
  put(dsi, 159, "0000");
  put(dsi, 185, angle_text(h.corner.y, false).substr(0, 6) + ".0" + angle_text(h.corner.y, false).back());
  put(dsi, 194, angle_text(h.corner.x, true).substr(0, 7) + ".0" + angle_text(h.corner.x, true).back());
  std::size_t at = 204;
  for (const auto& [x, y] : {std::pair{0, 0}, {0, 1}, {1, 1}, {1, 0}}) {
    put(dsi, at, angle_text(h.corner.y + y, false) + angle_text(h.corner.x + x, true));
    at += 15;
  }
  put(dsi, 264, "0000000.0" + tenths(h.step_y) + tenths(h.step_x) + fmt::format("{:04}{:04}00", h.rows, h.cols));
  put(acc, 0, "ACCNA  NA  NA  NA  ");
  put(acc, 55, "00");
  return uhl + dsi + acc;
}

// One record of a meridian.
std::vector<std::uint8_t> record_of(const CellHead& h, std::int64_t col, const Block& cell, const StoredAs& as,
                                    const std::string& file) {
  std::vector<float> column(static_cast<std::size_t>(h.rows));
  for (std::int64_t r = 0; r < h.rows; ++r) column[static_cast<std::size_t>(h.rows - 1 - r)] = cell.at(col, r);
  std::vector<std::uint8_t> samples(column.size() * 2), out(static_cast<std::size_t>(h.record()));
  floats_to_samples(column.data(), column.size(), as, samples.data(), file);
  out[0] = 0xAA;
  const auto two = [&](std::size_t at, std::int64_t v) {
    out[at] = static_cast<std::uint8_t>(v >> 8);
    out[at + 1] = static_cast<std::uint8_t>(v);
  };
  two(2, col);
  two(4, col);
  for (std::size_t i = 0; i < column.size(); ++i) {
    std::int16_t v = 0;
    std::memcpy(&v, &samples[2 * i], 2);
    const int magnitude = std::abs(static_cast<int>(v));
    two(static_cast<std::size_t>(kRecordHead) + 2 * i, magnitude | (v < 0 ? 0x8000 : 0));
  }
  const std::uint32_t sum = sum_of({out.data(), out.size() - kRecordTail});
  for (std::size_t k = 0; k < 4; ++k) out[out.size() - 4 + k] = static_cast<std::uint8_t>(sum >> (24 - 8 * k));
  return out;
}

// The cell is held whole, for its records go across its rows: at most 26 MB.
class DtedWriter final : public RowWriter {
 public:
  DtedWriter(const std::filesystem::path& path, const CellHead& h, const WriteOptions& options)
      : file_(path.string()),
        header_(h),
        level_(level_of(path)),
        sink_(create_file(path, {.overwrite = options.overwrite})),
        cell_({0, 0, h.cols, h.rows}, Planes::Values) {}
  std::vector<std::uint8_t> encode(const Block& rows) const override {
    const auto* bytes = reinterpret_cast<const std::uint8_t*>(rows.row(0));
    return {bytes, bytes + rows.window().cells() * 4};
  }
  void place(const Window& band, std::span<const std::uint8_t> bytes) override {
    std::memcpy(cell_.row(band.row), bytes.data(), bytes.size());
  }
  void finish(WriteReport& report) override {
    const std::string head = head_of(header_, level_);
    std::uint64_t at = 0;
    const auto write = [&](std::span<const std::uint8_t> bytes) {
      sink_->write_at(at, bytes);
      at += bytes.size();
    };
    write({reinterpret_cast<const std::uint8_t*>(head.data()), head.size()});
    for (std::int64_t c = 0; c < header_.cols; ++c)
      write(record_of(header_, c, cell_, {SampleType::Int16, kHole}, file_));
    sink_->commit();
    report.bytes = at;
    report.format = "DTED";
  }

 private:
  std::string file_;
  CellHead header_;
  int level_;
  std::unique_ptr<ByteSink> sink_;
  Block cell_;
};

CellHead cell_head_for(const Frame& frame, int level) {
  const Point m = frame.bounds().centre();
  return cell_head_of({std::floor(m.x), std::floor(m.y)}, level);
}

}  // namespace

Frame dted_cell_frame(const std::filesystem::path& path, const Frame& near) {
  Point m = near.bounds().centre();
  if (!near.crs().same_place(Crs::wgs84())) m = Transform(near.crs(), Crs::wgs84()).forward(m);
  return frame_of(cell_head_of({std::floor(m.x), std::floor(m.y)}, level_of(path)));
}

WriteReport write_dted(const Grid& given, const std::filesystem::path& path, const WriteOptions& options) {
  require_metres_above(given, HeightReference::parse("EGM96"), "a DTED cell", path.string());
  const CellHead h = cell_head_for(given.frame(), level_of(path));
  const auto window = given.frame().window_of(frame_of(h));
  if (!window)
    throw Error(ErrorCode::Refused,
                fmt::format("its cells are not those of DTED level {}: nodes every {} seconds of latitude and {} of "
                            "longitude (WGS 84), within one degree",
                            level_of(path), kLevelSeconds[level_of(path)],
                            kLevelSeconds[level_of(path)] * widening(h.corner.y)),
                path.string(), fmt::format("move it there: katoptra reproject IN -o {}", path.filename().string()));
  const Grid grid = in_whole_metres(cut(given, *window), kHole, "DTED");
  const StoredAs as{SampleType::Int16, kHole};
  return write_rows(grid, path, options, as, std::make_unique<DtedWriter>(path, h, options));
}

}  // namespace katoptra
