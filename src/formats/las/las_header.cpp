#include "las_header.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"

#include "formats/tiff/geokeys.hpp"
#include "laz_items.hpp"

namespace katoptra::las {

using laz::load;
using laz::store;

namespace {

constexpr std::size_t kRecordHead = 54, kLongRecordHead = 60;
// More than any survey has; what is longer is damage.
constexpr std::uint32_t kMostRecords = 100000;
constexpr std::uint64_t kLongestRecord = 64 << 20;

std::string fixed_text(const std::uint8_t* p, std::size_t n) {
  std::string s(reinterpret_cast<const char*>(p), strnlen(reinterpret_cast<const char*>(p), n));
  while (!s.empty() && s.back() == ' ') s.pop_back();
  return s;
}
void store_text(std::uint8_t* p, const std::string& s, std::size_t n) {
  std::memcpy(p, s.data(), std::min(s.size(), n));
}

// Records whose content we read; of others only that they are there.
bool is_known(const Record& r) {
  return r.user == "LASF_Projection" || r.user == "LASF_Spec" || r.user == "laszip encoded" || r.user == "copc";
}

void read_records(const ByteSource& file, Header& h, std::uint32_t count) {
  std::uint64_t at = h.header_size;
  for (std::uint32_t i = 0; i < count; ++i) {
    std::uint8_t head[kRecordHead];
    if (at + kRecordHead > h.points_at || at + kRecordHead > file.size()) {
      h.problems.push_back(fmt::format("the header tells of {} records, and there is room for {}", count, i));
      return;
    }
    file.read_exactly(at, head);
    Record r{fixed_text(head + 2, 16), load<std::uint16_t>(head + 18), {}};
    const std::uint64_t length = load<std::uint16_t>(head + 20);
    at += kRecordHead;
    if (length > file.size() - std::min(at, file.size()))
      damaged(file, "a record of its header reaches beyond the end");
    if (is_known(r)) {
      r.bytes.resize(length);
      file.read_exactly(at, r.bytes);
      h.records.push_back(std::move(r));
    }
    at += length;
  }
}

void read_long_records(const ByteSource& file, Header& h, std::uint64_t at, std::uint32_t count) {
  for (std::uint32_t i = 0; i < count; ++i) {
    std::uint8_t head[kLongRecordHead];
    if (at > file.size() || file.size() - at < kLongRecordHead) {
      h.problems.push_back(fmt::format("of {} records behind the points, {} are there", count, i));
      return;
    }
    file.read_exactly(at, head);
    Record r{fixed_text(head + 2, 16), load<std::uint16_t>(head + 18), {}};
    const auto length = load<std::uint64_t>(head + 20);
    at += kLongRecordHead;
    if (length > file.size() - at) {
      h.problems.push_back("a record behind the points reaches beyond the end of the file");
      return;
    }
    // The pages of an octree are read where they lie.
    if (is_known(r) && r.user != "copc" && length <= kLongestRecord) {
      r.bytes.resize(length);
      file.read_exactly(at, r.bytes);
      h.records.push_back(std::move(r));
    }
    at += length;
  }
}

}  // namespace

PointFields fields_of(int format) {
  using F = PointFields;
  F f = F::Intensity | F::Return | F::Class | F::Flags | F::Angle | F::User | F::Source;
  if (format == 1 || format >= 3) f = f | F::Time;
  if (format == 2 || format == 3 || format == 5 || format == 7 || format == 8 || format == 10) f = f | F::Colour;
  if (format == 8 || format == 10) f = f | F::Infrared;
  if (format == 4 || format == 5 || format == 9 || format == 10) f = f | F::Waveform;
  return f;
}

const Record* Header::find(std::string_view user, int id) const {
  for (const Record& r : records)
    if (r.user == user && r.id == id) return &r;
  return nullptr;
}

void damaged(const ByteSource& f, const std::string& what) {
  throw Error(ErrorCode::BadFile, what, f.name(), "fetch the file again");
}

void damaged_behind(const ByteSource& f, const std::string& what) {
  throw Error(ErrorCode::BadFile, what, f.name(),
              "fetch the file again, or take the points before the damage with --salvage");
}

Header read_header(const ByteSource& file) {
  std::uint8_t b[375] = {};
  const std::size_t got = file.read_at(0, b);
  if (got < 227 || std::memcmp(b, "LASF", 4) != 0) damaged(file, "is no LAS file, or ends within its header");
  Header h;
  if (b[24] != 1 || b[25] > 4)
    throw Error(ErrorCode::Unsupported, fmt::format("is LAS {}.{}; 1.0 to 1.4 are read", b[24], b[25]), file.name());
  h.minor = b[25];
  const auto encoding = load<std::uint16_t>(b + 6);
  h.standard_time = encoding & 1;
  h.wkt = encoding & 16;
  h.system = fixed_text(b + 26, 32);
  h.software = fixed_text(b + 58, 32);
  h.day = load<std::uint16_t>(b + 90);
  h.year = load<std::uint16_t>(b + 92);
  h.header_size = load<std::uint16_t>(b + 94);
  h.points_at = load<std::uint32_t>(b + 96);
  const auto records = load<std::uint32_t>(b + 100);
  h.compressed = b[104] & 128;
  h.point_format = b[104] & 63;
  h.record_length = load<std::uint16_t>(b + 105);
  h.points = h.legacy_points = load<std::uint32_t>(b + 107);
  for (std::size_t i = 0; i < 5; ++i) h.by_return[i] = load<std::uint32_t>(b + 111 + 4 * i);
  for (int i = 0; i < 3; ++i) {
    h.lattice.step[i] = load<double>(b + 131 + 8 * i);
    h.lattice.origin[i] = load<double>(b + 155 + 8 * i);
    h.highest[i] = load<double>(b + 179 + 16 * i);
    h.lowest[i] = load<double>(b + 187 + 16 * i);
    if (!std::isfinite(h.lattice.step[i]) || !(std::abs(h.lattice.step[i]) > 0) || !std::isfinite(h.lattice.origin[i]))
      damaged(file, "the scale of its coordinates is no number, or zero");
  }
  const std::uint32_t least = h.minor >= 4 ? 375 : h.minor == 3 ? 235 : 227;
  if (h.header_size < least || got < least) damaged(file, "its header is shorter than its version asks for");
  if (h.points_at < h.header_size || h.points_at > file.size())
    damaged(file, "its points begin beyond the end of the file");
  if (h.point_format > 10)
    throw Error(ErrorCode::Unsupported, fmt::format("has point format {}; 0 to 10 are read", h.point_format),
                file.name());
  if (h.record_length < kRecordLength[h.point_format])
    damaged(file, fmt::format("its records have {} bytes, and point format {} needs {}", h.record_length,
                              h.point_format, kRecordLength[h.point_format]));
  if (records > kMostRecords) damaged(file, "its header tells of more records than there can be");
  read_records(file, h, records);
  if (h.minor >= 4) {
    h.points = load<std::uint64_t>(b + 247);
    for (std::size_t i = 0; i < 15; ++i) h.by_return[i] = load<std::uint64_t>(b + 255 + 8 * i);
    if (h.points == 0 && h.legacy_points > 0) {
      h.points = h.legacy_points;
      h.problems.push_back("the header counts its points in the old place only");
    }
    const auto behind = load<std::uint32_t>(b + 243);
    if (behind > kMostRecords) damaged(file, "its header tells of more records than there can be");
    if (behind > 0) read_long_records(file, h, load<std::uint64_t>(b + 235), behind);
  }
  return h;
}

std::vector<std::uint8_t> header_bytes(Header& h) {
  h.header_size = h.minor >= 4 ? 375 : h.minor == 3 ? 235 : 227;
  std::vector<std::uint8_t> out(h.header_size, 0);
  for (const Record& r : h.records) {
    const std::size_t at = out.size();
    out.resize(at + kRecordHead, 0);
    store_text(out.data() + at + 2, r.user, 16);
    store(out.data() + at + 18, static_cast<std::uint16_t>(r.id));
    store(out.data() + at + 20, static_cast<std::uint16_t>(r.bytes.size()));
    out.insert(out.end(), r.bytes.begin(), r.bytes.end());
  }
  h.points_at = out.size();
  std::uint8_t* b = out.data();
  std::memcpy(b, "LASF", 4);
  store(b + 6, static_cast<std::uint16_t>((h.standard_time ? 1 : 0) | (h.wkt ? 16 : 0)));
  b[24] = 1;
  b[25] = static_cast<std::uint8_t>(h.minor);
  store_text(b + 26, h.system, 32);
  store_text(b + 58, h.software, 32);
  store(b + 90, static_cast<std::uint16_t>(h.day));
  store(b + 92, static_cast<std::uint16_t>(h.year));
  store(b + 94, static_cast<std::uint16_t>(h.header_size));
  store(b + 96, static_cast<std::uint32_t>(h.points_at));
  store(b + 100, static_cast<std::uint32_t>(h.records.size()));
  b[104] = static_cast<std::uint8_t>(h.point_format | (h.compressed ? 128 : 0));
  store(b + 105, static_cast<std::uint16_t>(h.record_length));
  const bool small = h.points <= 0xFFFFFFFF && h.point_format < 6;
  if (small) {
    store(b + 107, static_cast<std::uint32_t>(h.points));
    for (std::size_t i = 0; i < 5; ++i) store(b + 111 + 4 * i, static_cast<std::uint32_t>(h.by_return[i]));
  }
  for (int i = 0; i < 3; ++i) {
    store(b + 131 + 8 * i, h.lattice.step[i]);
    store(b + 155 + 8 * i, h.lattice.origin[i]);
    store(b + 179 + 16 * i, h.highest[i]);
    store(b + 187 + 16 * i, h.lowest[i]);
  }
  if (h.minor >= 4) {
    store(b + 247, h.points);
    for (std::size_t i = 0; i < 15; ++i) store(b + 255 + 8 * i, h.by_return[i]);
  }
  return out;
}

std::vector<ExtraAttribute> extra_attributes(const Header& h) {
  constexpr int kSize[11] = {0, 1, 1, 2, 2, 4, 4, 8, 8, 4, 8};
  std::vector<ExtraAttribute> out;
  const Record* r = h.find("LASF_Spec", 4);
  int at = 0;
  for (std::size_t i = 0; r && i + 192 <= r->bytes.size(); i += 192) {
    const std::uint8_t* p = r->bytes.data() + i;
    ExtraAttribute a;
    a.name = fixed_text(p + 4, 32);
    a.description = fixed_text(p + 160, 32);
    a.type = p[2] <= 10 ? p[2] : 0;
    a.at = at;
    a.bytes = a.type == 0 ? p[3] : kSize[a.type];
    const int options = a.type == 0 ? 0 : p[3];
    if (options & 1) {
      // Kept as the type of the attribute, widened to eight bytes.
      const double v = a.type >= 9       ? load<double>(p + 40)
                       : a.type % 2 == 0 ? static_cast<double>(load<std::int64_t>(p + 40))
                                         : static_cast<double>(load<std::uint64_t>(p + 40));
      a.no_data = v;
    }
    if (options & 8) a.scale = load<double>(p + 112);
    if (options & 16) a.offset = load<double>(p + 136);
    a.record.assign(p, p + 192);
    if (a.bytes <= 0 || at + a.bytes > h.extra_bytes()) break;
    at += a.bytes;
    out.push_back(std::move(a));
  }
  return out;
}

// ---- references

References read_references(const Header& h) {
  References out;
  const Record* wkt = h.find("LASF_Projection", 2112);
  const Record* keys = h.find("LASF_Projection", 34735);
  if (wkt) {
    std::string text(wkt->bytes.begin(), wkt->bytes.end());
    text.resize(strnlen(text.c_str(), text.size()));
    try {
      if (!text.empty()) {
        const Crs crs = Crs::parse(text);
        out.heights = crs.heights();
        if (out.heights.known()) out.unit = out.heights.unit();
        out.crs = crs.with_heights({});
        out.crs_name = out.crs.name();
      }
    } catch (const Error&) {
      out.notes.push_back("its WKT is not understood");
      if (const auto quote = text.find('"'); quote != text.npos)
        out.crs_name = text.substr(quote + 1, text.find('"', quote + 1) - quote - 1);
    }
  }
  if (!keys) return out;
  tiff::GeoTags tags;
  for (std::size_t i = 0; i + 2 <= keys->bytes.size(); i += 2)
    tags.directory.push_back(load<std::uint16_t>(keys->bytes.data() + i));
  if (const Record* r = h.find("LASF_Projection", 34736))
    for (std::size_t i = 0; i + 8 <= r->bytes.size(); i += 8) tags.doubles.push_back(load<double>(r->bytes.data() + i));
  if (const Record* r = h.find("LASF_Projection", 34737)) tags.text.assign(r->bytes.begin(), r->bytes.end());
  const tiff::GeoFacts facts = tiff::read_geo_tags(tags);
  if (!out.crs) {
    out.crs = facts.crs;
    if (!facts.crs_name.empty()) out.crs_name = facts.crs_name;
    if (out.crs && out.crs.heights().known()) out.crs = out.crs.with_heights({});
  }
  if (!out.heights.known()) {
    out.heights = facts.heights;
    if (facts.height_unit) out.unit = facts.height_unit;
  }
  out.notes.insert(out.notes.end(), facts.notes.begin(), facts.notes.end());
  return out;
}

void write_references(Header& h, const PointInfo& info, std::vector<std::string>& notes) {
  if (!info.crs) return;
  auto bytes_of = [](const void* p, std::size_t n) {
    const auto* b = static_cast<const std::uint8_t*>(p);
    return std::vector<std::uint8_t>(b, b + n);
  };
  const HeightReference& heights = info.quantity.heights;
  const bool new_kind = h.point_format >= 6;
  // WKT of the first edition has no place for heights above an ellipsoid, and the unit of a vertical system may be
  // another than that of the values: keys say both.
  const bool odd_unit =
      info.quantity.unit_known && (!heights.known() || heights.is_ellipsoid() || heights.unit() != info.quantity.unit);
  if (new_kind) {
    const bool in_wkt = heights.known() && !heights.is_ellipsoid() && !odd_unit;
    const std::string wkt = info.crs.with_heights(in_wkt ? heights : HeightReference()).file_wkt();
    if (wkt.size() >= 65535) {
      notes.push_back("its CRS is too long for the file and was left out");
      return;
    }
    h.wkt = true;
    h.records.push_back({"LASF_Projection", 2112, bytes_of(wkt.c_str(), wkt.size() + 1)});
    if (in_wkt || (!heights.known() && !info.quantity.unit_known)) return;
  }
  const tiff::GeoTags tags = tiff::write_geo_tags(info.crs, info.quantity, info.bounds);
  if (!tags.complete && !new_kind)
    notes.push_back("point formats below 6 have no terms for its CRS, which was left out: take format 6 or above");
  h.records.push_back({"LASF_Projection", 34735, bytes_of(tags.directory.data(), 2 * tags.directory.size())});
  if (!tags.doubles.empty())
    h.records.push_back({"LASF_Projection", 34736, bytes_of(tags.doubles.data(), 8 * tags.doubles.size())});
  if (!tags.text.empty()) h.records.push_back({"LASF_Projection", 34737, bytes_of(tags.text.data(), tags.text.size())});
}

// ---- records of points

namespace {

// Where a format keeps what.
struct Places {
  bool wide;  // formats 6 and above
  int time = -1, colour = -1, infrared = -1, waveform = -1, extra;
};
Places places_of(const Header& h) {
  const int f = h.point_format;
  Places p{.wide = f >= 6, .extra = kRecordLength[f]};
  int at = p.wide ? 30 : 20;
  if (p.wide) {
    p.time = 22;
  } else if (f == 1 || f >= 3) {
    p.time = at;
    at += 8;
  }
  if (has(fields_of(f), PointFields::Colour)) {
    p.colour = at;
    at += 6;
  }
  if (f == 8 || f == 10) {
    p.infrared = at;
    at += 2;
  }
  if (has(fields_of(f), PointFields::Waveform)) p.waveform = at;
  return p;
}

constexpr double kAngleSteps = 1 / kAngleStep;

// Records are turned into columns a few at a time, so that they are still near when the next column is filled.
constexpr std::size_t kAtOnce = 512;

template <class T, class Get>
void column(std::vector<T>& v, std::size_t from, std::size_t to, const std::uint8_t* r, std::size_t stride,
            const Get& get) {
  for (std::size_t i = from; i < to; ++i) v[i] = get(r + i * stride);
}
template <class T, class Put>
void put(const std::vector<T>& v, std::size_t n, std::uint8_t* r, std::size_t stride, const Put& put_one) {
  if (v.size() != n) return;
  for (std::size_t i = 0; i < n; ++i) put_one(r + i * stride, v[i]);
}

void fill_columns(const Header& h, const std::uint8_t* r, std::size_t from, std::size_t to, PointFields fields,
                  bool extra, PointBatch& out) {
  const auto stride = static_cast<std::size_t>(h.record_length);
  const Places p = places_of(h);
  const auto step = h.lattice.step, origin = h.lattice.origin;
  column(out.x, from, to, r, stride,
         [&](const std::uint8_t* b) { return load<std::int32_t>(b) * step[0] + origin[0]; });
  column(out.y, from, to, r, stride,
         [&](const std::uint8_t* b) { return load<std::int32_t>(b + 4) * step[1] + origin[1]; });
  column(out.z, from, to, r, stride,
         [&](const std::uint8_t* b) { return load<std::int32_t>(b + 8) * step[2] + origin[2]; });
  using F = PointFields;
  using Bytes = const std::uint8_t*;
  if (has(fields, F::Intensity))
    column(out.intensity, from, to, r, stride, [](Bytes b) { return load<std::uint16_t>(b + 12); });
  if (has(fields, F::Return)) {
    column(out.return_number, from, to, r, stride,
           [&](Bytes b) { return static_cast<std::uint8_t>(b[14] & (p.wide ? 15 : 7)); });
    column(out.return_count, from, to, r, stride,
           [&](Bytes b) { return static_cast<std::uint8_t>(p.wide ? b[14] >> 4 : b[14] >> 3 & 7); });
  }
  if (has(fields, F::Class))
    column(out.classification, from, to, r, stride,
           [&](Bytes b) { return static_cast<std::uint8_t>(p.wide ? b[16] : b[15] & 31); });
  if (has(fields, F::Flags))
    column(out.flags, from, to, r, stride, [&](Bytes b) {
      // Old formats: three flags above the class, scan bits above the returns. New: four flags, channel, scan bits.
      return static_cast<std::uint8_t>(p.wide ? (b[15] & 15) | (b[15] >> 6) << 4 | (b[15] >> 4 & 3) << kChannelShift
                                              : b[15] >> 5 | (b[14] >> 6) << 4);
    });
  if (has(fields, F::User)) column(out.user, from, to, r, stride, [](Bytes b) { return b[17]; });
  if (has(fields, F::Angle))
    column(out.angle, from, to, r, stride, [&](Bytes b) {
      return p.wide ? load<std::int16_t>(b + 18)
                    : static_cast<std::int16_t>(std::lround(static_cast<std::int8_t>(b[16]) * kAngleSteps));
    });
  if (has(fields, F::Source))
    column(out.source, from, to, r, stride, [&](Bytes b) { return load<std::uint16_t>(b + (p.wide ? 20 : 18)); });
  if (has(fields, F::Time)) column(out.time, from, to, r, stride, [&](Bytes b) { return load<double>(b + p.time); });
  if (has(fields, F::Colour)) {
    column(out.red, from, to, r, stride, [&](Bytes b) { return load<std::uint16_t>(b + p.colour); });
    column(out.green, from, to, r, stride, [&](Bytes b) { return load<std::uint16_t>(b + p.colour + 2); });
    column(out.blue, from, to, r, stride, [&](Bytes b) { return load<std::uint16_t>(b + p.colour + 4); });
  }
  if (has(fields, F::Infrared))
    column(out.infrared, from, to, r, stride, [&](Bytes b) { return load<std::uint16_t>(b + p.infrared); });
  auto copy_bytes = [&](std::vector<std::uint8_t>& v, int at, std::size_t width) {
    for (std::size_t i = from; i < to; ++i) std::memcpy(v.data() + i * width, r + i * stride + at, width);
  };
  if (has(fields, F::Waveform)) copy_bytes(out.waveform, p.waveform, kWaveformBytes);
  if (extra) copy_bytes(out.extra, p.extra, static_cast<std::size_t>(h.extra_bytes()));
}

}  // namespace

void records_to_batch(const Header& h, const std::uint8_t* r, std::size_t n, PointFields wanted, PointBatch& out) {
  const PointFields fields = wanted & fields_of(h.point_format);
  const bool extra = has(wanted, PointFields::Extra) && h.extra_bytes() > 0;
  out.resize(n, extra ? fields | PointFields::Extra : fields, h.extra_bytes());
  for (std::size_t from = 0; from < n; from += kAtOnce)
    fill_columns(h, r, from, std::min(n, from + kAtOnce), fields, extra, out);
}

void batch_to_records(const Header& h, const PointBatch& b, std::uint8_t* r) {
  const auto stride = static_cast<std::size_t>(h.record_length);
  const std::size_t n = b.size();
  const Places p = places_of(h);
  std::memset(r, 0, n * stride);
  const std::vector<double>* axes[3] = {&b.x, &b.y, &b.z};
  for (int a = 0; a < 3; ++a) {
    const double step = h.lattice.step[a], origin = h.lattice.origin[a];
    for (std::size_t i = 0; i < n; ++i) {
      const double v = std::nearbyint(((*axes[a])[i] - origin) / step);
      if (!(v >= -2147483648.0 && v <= 2147483647.0))
        throw Error(ErrorCode::TooLarge,
                    fmt::format("the coordinate {:.10g} is beyond what integers in steps of {:g} from {:g} hold",
                                (*axes[a])[i], step, origin),
                    {}, "write it as text, or in steps that are coarser");
      store(r + i * stride + 4 * a, static_cast<std::int32_t>(v));
    }
  }
  using Bytes = std::uint8_t*;
  put(b.intensity, n, r, stride, [](Bytes t, std::uint16_t v) { store(t + 12, v); });
  put(b.return_number, n, r, stride,
      [&](Bytes t, std::uint8_t v) { t[14] = static_cast<std::uint8_t>(t[14] | std::min<int>(v, p.wide ? 15 : 7)); });
  put(b.return_count, n, r, stride, [&](Bytes t, std::uint8_t v) {
    t[14] = static_cast<std::uint8_t>(t[14] | std::min<int>(v, p.wide ? 15 : 7) << (p.wide ? 4 : 3));
  });
  if (b.return_number.size() != n)
    for (std::size_t i = 0; i < n; ++i) r[i * stride + 14] = p.wide ? 0x11 : 0x09;  // the only return of its pulse
  put(b.classification, n, r, stride, [&](Bytes t, std::uint8_t v) {
    if (p.wide)
      t[16] = v;
    else
      t[15] = static_cast<std::uint8_t>(v > 31 ? 1 : v);
  });
  put(b.flags, n, r, stride, [&](Bytes t, std::uint8_t v) {
    if (p.wide) {
      t[15] = static_cast<std::uint8_t>((v & 15) | (v >> kChannelShift) << 4 | (v >> 4 & 3) << 6);
    } else {
      t[15] = static_cast<std::uint8_t>(t[15] | (v & 7) << 5);
      t[14] = static_cast<std::uint8_t>(t[14] | (v >> 4 & 3) << 6);
    }
  });
  put(b.user, n, r, stride, [](Bytes t, std::uint8_t v) { t[17] = v; });
  put(b.angle, n, r, stride, [&](Bytes t, std::int16_t v) {
    if (p.wide)
      store(t + 18, v);
    else
      t[16] = static_cast<std::uint8_t>(static_cast<std::int8_t>(std::clamp(std::lround(v * kAngleStep), -128L, 127L)));
  });
  put(b.source, n, r, stride, [&](Bytes t, std::uint16_t v) { store(t + (p.wide ? 20 : 18), v); });
  if (p.time >= 0) put(b.time, n, r, stride, [&](Bytes t, double v) { store(t + p.time, v); });
  if (p.colour >= 0) {
    put(b.red, n, r, stride, [&](Bytes t, std::uint16_t v) { store(t + p.colour, v); });
    put(b.green, n, r, stride, [&](Bytes t, std::uint16_t v) { store(t + p.colour + 2, v); });
    put(b.blue, n, r, stride, [&](Bytes t, std::uint16_t v) { store(t + p.colour + 4, v); });
  }
  if (p.infrared >= 0) put(b.infrared, n, r, stride, [&](Bytes t, std::uint16_t v) { store(t + p.infrared, v); });
  auto put_bytes = [&](const std::vector<std::uint8_t>& v, int at, std::size_t width) {
    if (width == 0 || v.size() != n * width) return;
    for (std::size_t i = 0; i < n; ++i) std::memcpy(r + i * stride + at, v.data() + i * width, width);
  };
  if (p.waveform >= 0) put_bytes(b.waveform, p.waveform, kWaveformBytes);
  put_bytes(b.extra, p.extra, static_cast<std::size_t>(std::max(0, h.extra_bytes())));
}

}  // namespace katoptra::las
