#include "las_write.hpp"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <ctime>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/version.hpp"

#include "base/pool.hpp"
#include "laz_items.hpp"

namespace katoptra::las {
namespace {

using laz::load;

// The smallest format that holds the fields.
int format_for(const PointInfo& info, bool compressed) {
  using F = PointFields;
  if (info.record_format >= 0) {
    int f = info.record_format;
    if (compressed && (f == 4 || f == 5 || f == 9 || f == 10))
      throw Error(ErrorCode::Unsupported,
                  fmt::format("points of format {} (with waveforms) are not written compressed", f), info.name,
                  "write .las, or give another --format (which leaves the waveforms out)");
    // Fields that came later need room.
    const F missing = static_cast<F>(static_cast<std::uint32_t>(info.fields & (F::Colour | F::Infrared | F::Time)) &
                                     ~static_cast<std::uint32_t>(fields_of(f)));
    if (missing == F::None) return f;
  }
  if (has(info.fields, F::Infrared)) return 8;
  return has(info.fields, F::Colour) ? 7 : 6;
}

// Steps that keep what coordinates without integers have, and an origin that makes them small.
PointLattice lattice_for(const PointInfo& info) {
  if (info.lattice) return *info.lattice;
  PointLattice l;
  const bool degrees = info.crs.is_geographic();
  l.step[0] = l.step[1] = degrees ? 1e-7 : 0.001;
  l.step[2] = 0.001;
  if (info.bounds.empty()) return l;
  const Point c = info.bounds.centre();
  const double round = degrees ? 1 : 1000;
  l.origin[0] = std::floor(c.x / round) * round;
  l.origin[1] = std::floor(c.y / round) * round;
  return l;
}

void dates(Header& h, const PointInfo& info) {
  int y = 0, m = 0, d = 0;
  std::time_t t = std::time(nullptr);
  if (!info.sources.empty() && std::sscanf(info.sources.front().date.c_str(), "%d-%d-%d", &y, &m, &d) == 3) {
    std::tm day{};
    day.tm_year = y - 1900;
    day.tm_mon = m - 1;
    day.tm_mday = d;
    t = ::timegm(&day);
  }
  std::tm day{};
  ::gmtime_r(&t, &day);
  h.year = day.tm_year + 1900;
  h.day = day.tm_yday + 1;
}

}  // namespace

Header header_for(const PointInfo& info, const PointWriteOptions& options, bool compressed,
                  std::vector<std::string>& notes) {
  Header h;
  h.compressed = compressed;
  if (options.record_format > 10 || options.record_format < -1)
    throw Error(ErrorCode::BadArgument, fmt::format("there is no point format {}", options.record_format), {},
                "give 0 to 10");
  PointInfo wanted = info;
  if (options.record_format >= 0) {
    wanted.record_format = options.record_format;
    wanted.fields = wanted.fields & fields_of(options.record_format);
    const PointFields lost = static_cast<PointFields>(
        static_cast<std::uint32_t>(
            info.fields & (PointFields::Time | PointFields::Colour | PointFields::Infrared | PointFields::Waveform)) &
        ~static_cast<std::uint32_t>(fields_of(options.record_format)));
    if (lost != PointFields::None)
      notes.push_back(fmt::format("point format {} has no room for all fields: {} left out", options.record_format,
                                  has(lost, PointFields::Time)     ? "times"
                                  : has(lost, PointFields::Colour) ? "colours"
                                                                   : "others"));
  }
  h.point_format = format_for(wanted, compressed);
  h.minor = h.point_format >= 6 ? 4 : h.point_format >= 4 ? 3 : 2;
  const int extra = has(info.fields, PointFields::Extra) ? info.extra_bytes : 0;
  h.record_length = kRecordLength[h.point_format] + extra;
  h.lattice = lattice_for(info);
  h.standard_time = info.time != PointTime::WeekSeconds;
  h.software = std::string("Katoptra ") + KATOPTRA_VERSION;
  h.system = info.sources.size() > 1 ? "MERGE" : "EXTRACTION";
  dates(h, info);
  write_references(h, info, notes);
  if (extra > 0 && !info.extra.empty()) {
    Record r{"LASF_Spec", 4, {}};
    for (const ExtraAttribute& a : info.extra) r.bytes.insert(r.bytes.end(), a.record.begin(), a.record.end());
    h.records.push_back(std::move(r));
  }
  return h;
}

void tell(const Header& h, PointWriteReport& report) {
  report.points = h.points;
  report.bounds = {h.lowest[0], h.lowest[1], h.highest[0], h.highest[1]};
  report.lowest = h.lowest[2];
  report.highest = h.highest[2];
}

namespace {

// Records go out as they stand, or in chunks of one size, many coded at once.
class Writer {
 public:
  Writer(Header header, ByteSink& sink, std::uint32_t chunk, int threads)
      : header_(std::move(header)),
        sink_(sink),
        stride_(static_cast<std::size_t>(header_.record_length)),
        chunk_(chunk),
        at_once_(static_cast<std::size_t>(2 * threads)) {
    if (header_.compressed) {
      format_ = laz::LazFormat::for_records(header_.point_format, header_.record_length);
      format_.chunk_size = chunk;
      header_.records.push_back({"laszip encoded", 22204, format_.record()});
    }
    at_ = header_bytes(header_).size();
    if (header_.compressed) at_ += 8;
  }

  void add(const std::vector<std::uint8_t>& records) {
    tally_.add(records.data(), records.size() / stride_, stride_, header_.point_format >= 6);
    if (!header_.compressed) {
      sink_.write_at(at_, records);
      at_ += records.size();
      return;
    }
    waiting_.insert(waiting_.end(), records.begin(), records.end());
    if (waiting_.size() >= at_once_ * chunk_ * stride_) flush(at_once_);
  }

  std::uint64_t finish() {
    if (header_.compressed) {
      while (waiting_.size() >= chunk_ * stride_) flush(std::min(at_once_, waiting_.size() / (chunk_ * stride_)));
      if (!waiting_.empty()) flush(1);
      const std::uint64_t table_at = at_;
      const auto table = laz::encode_chunk_table(sizes_, false);
      sink_.write_at(at_, table);
      at_ += table.size();
      std::uint8_t place[8];
      laz::store(place, table_at);
      sink_.write_at(header_.points_at, place);
    }
    tally_.tell(header_);
    if (tally_.points > 0xFFFFFFFF && header_.minor < 4)
      throw Error(ErrorCode::TooLarge, "more points than this version of the format can count", {}, "give --format 6");
    sink_.write_at(0, header_bytes(header_));
    return at_;
  }
  const Header& header() const { return header_; }

 private:
  void flush(std::size_t chunks) {
    std::vector<std::vector<std::uint8_t>> coded(chunks);
    const std::size_t bytes = chunk_ * stride_;
    parallel_within(chunks, [&](std::size_t i) {
      const std::size_t from = i * bytes, n = std::min(bytes, waiting_.size() - from) / stride_;
      laz::ChunkCoder coder = coders_.take([&] { return laz::ChunkCoder(format_); });
      coded[i] = coder.encode(waiting_.data() + from, n);
      coders_.give(std::move(coder));
    });
    for (const auto& c : coded) {
      sink_.write_at(at_, c);
      at_ += c.size();
      sizes_.push_back({static_cast<std::uint32_t>(chunk_), static_cast<std::uint32_t>(c.size())});
    }
    waiting_.erase(waiting_.begin(),
                   waiting_.begin() + static_cast<std::ptrdiff_t>(std::min(waiting_.size(), chunks * bytes)));
  }

  Header header_;
  ByteSink& sink_;
  std::size_t stride_, chunk_, at_once_;
  laz::LazFormat format_;
  Pool<laz::ChunkCoder> coders_;
  std::vector<std::uint8_t> waiting_;
  std::vector<laz::ChunkSize> sizes_;
  Tally tally_;
  std::uint64_t at_ = 0;
};

}  // namespace

void write_las(const PointCloud& cloud, ByteSink& sink, bool compressed, const PointWriteOptions& options,
               PointWriteReport& report) {
  if (options.chunk < 1 || options.chunk > 1u << 24)
    throw Error(ErrorCode::BadArgument, "a chunk has 1 to 16777216 points", {}, "leave it at 50000");
  if (compressed && has_ending(report.path, ".copc.laz")) {
    write_copc(cloud, sink, options, report);
    return;
  }
  const PointInfo& info = cloud.info();
  Writer writer(header_for(info, options, compressed, report.notes), sink, options.chunk, thread_count(options.run));
  const Header& h = writer.header();
  const PointFields fields = fields_of(h.point_format) | (h.extra_bytes() > 0 ? PointFields::Extra : PointFields::None);
  map_points(
      cloud, fields, options.run,
      [&](std::size_t, PointBatch& b) -> std::shared_ptr<void> {
        auto records =
            std::make_shared<std::vector<std::uint8_t>>(b.size() * static_cast<std::size_t>(h.record_length));
        batch_to_records(h, b, records->data());
        return records;
      },
      [&](std::shared_ptr<void> r) { writer.add(*static_cast<std::vector<std::uint8_t>*>(r.get())); });
  report.bytes = writer.finish();
  tell(h, report);
  report.format = fmt::format("{} 1.{}, point format {}", compressed ? "LAZ" : "LAS", h.minor, h.point_format);
}

}  // namespace katoptra::las
