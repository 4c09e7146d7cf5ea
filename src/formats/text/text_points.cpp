// Points in columns of text. The header names the columns, or the user does; x, y and z are found as in grids of text
// (xyz.cpp), other columns by the roles they are known under. The file is looked through once, in pieces on all cores,
// for counts and boxes; a part is parsed again when it is read. Written, each number has as many digits as its lattice
// or its type needs to come back the same.
#include "text_points.hpp"

#include <array>
#include <cmath>
#include <fmt/format.h>
#include <iterator>
#include <limits>

#include "katoptra/base/error.hpp"

#include "xyz_dialect.hpp"

namespace katoptra {
namespace {

// Columns beside x, y and z, by the names that headers give them; the first is the one we write.
enum Role {
  kIntensity,
  kReturnNumber,
  kReturnCount,
  kClass,
  kFlags,
  kUser,
  kAngle,
  kSource,
  kTime,
  kRed,
  kGreen,
  kBlue,
  kInfrared,
  kRoles
};
struct RoleFacts {
  PointFields field;
  std::array<const char*, 4> names;
};
constexpr std::array<RoleFacts, kRoles> kRoleFacts{
    {{PointFields::Intensity, {"intensity", "", "", ""}},
     {PointFields::Return, {"return", "return_number", "return number", ""}},
     {PointFields::Return, {"returns", "number_of_returns", "return_count", ""}},
     {PointFields::Class, {"class", "classification", "code", ""}},
     {PointFields::Flags, {"flags", "", "", ""}},
     {PointFields::User, {"user", "user_data", "", ""}},
     {PointFields::Angle, {"angle", "scan_angle", "", ""}},
     {PointFields::Source, {"line", "flight_line", "point_source_id", "source"}},
     {PointFields::Time, {"time", "gps_time", "gpstime", ""}},
     {PointFields::Colour, {"red", "r", "", ""}},
     {PointFields::Colour, {"green", "g", "", ""}},
     {PointFields::Colour, {"blue", "b", "", ""}},
     {PointFields::Infrared, {"infrared", "nir", "", ""}}}};

struct TextPiece {
  std::uint64_t begin = 0, end = 0, points = 0, first = 0;
  Bounds box;
  double lowest = std::numeric_limits<double>::infinity(), highest = -std::numeric_limits<double>::infinity();
};

// The columns of the header that have a role.
std::array<std::optional<std::size_t>, kRoles> roles_in(const xyz::Dialect& d) {
  std::array<std::optional<std::size_t>, kRoles> out;
  for (std::size_t i = 0; i < d.header_names.size(); ++i) {
    if (std::find(d.columns.begin(), d.columns.end(), i) != d.columns.end()) continue;
    const std::string name = lower_case(d.header_names[i]);
    for (std::size_t r = 0; r < kRoles; ++r)
      for (const char* known : kRoleFacts[r].names)
        if (*known && name == known && !out[r]) out[r] = i;
  }
  // One or two colours alone are something else.
  if (!out[kRed] || !out[kGreen] || !out[kBlue]) out[kRed] = out[kGreen] = out[kBlue] = std::nullopt;
  if (!out[kReturnNumber] || !out[kReturnCount]) out[kReturnNumber] = out[kReturnCount] = std::nullopt;
  return out;
}

class TextPoints : public PointSource {
 public:
  TextPoints(std::shared_ptr<ByteSource> file, xyz::Dialect dialect, bool depths)
      : file_(std::move(file)), dialect_(std::move(dialect)) {
    roles_ = roles_in(dialect_);
    dialect_.depths = dialect_.depths || depths;
    for (std::size_t r = 0; r < kRoles; ++r)
      if (roles_[r]) info_.fields = info_.fields | kRoleFacts[r].field;
    if (roles_[kTime]) info_.time = PointTime::Standard;
    if (dialect_.geographic) info_.crs = Crs::wgs84();
    if (dialect_.depths) info_.notes.push_back("depths, positive down, turned into heights");
    look_through();
  }
  const PointInfo& info() const override { return info_; }
  PointInfo& info() { return info_; }
  std::size_t parts() const override { return pieces_.size(); }
  PointPart part(std::size_t i) const override { return {pieces_[i].points, pieces_[i].box, pieces_[i].first}; }
  const xyz::Dialect& dialect() const { return dialect_; }

  void read(std::size_t i, PointFields wanted, PointBatch& out) const override {
    const TextPiece& piece = pieces_[i];
    out.clear();
    const PointFields fields = wanted & info_.fields;
    std::array<std::vector<double>, kRoles> values;
    std::array<std::size_t, kRoles> column;
    for (std::size_t r = 0; r < kRoles; ++r) column[r] = roles_[r].value_or(SIZE_MAX);
    xyz::each_line(*file_, dialect_, piece.begin, piece.end, [&](std::string_view line, std::uint64_t at) {
      std::array<double, 3> place{};
      std::array<double, kRoles> role{};
      int found = 0;
      xyz::each_field(line, dialect_.delimiter, [&](std::size_t n, std::string_view f) {
        for (std::size_t k = 0; k < 3; ++k)
          if (dialect_.columns[k] == n) {
            if (!xyz::field_number(f, dialect_.decimal_comma, place[k])) return false;
            ++found;
          }
        for (std::size_t r = 0; r < kRoles; ++r)
          if (column[r] == n && !xyz::field_number(f, dialect_.decimal_comma, role[r])) role[r] = 0;
        return true;
      });
      if (found < 3 || !std::isfinite(place[0]) || !std::isfinite(place[1])) xyz::refuse_line(*file_, line, at);
      out.x.push_back(place[0]);
      out.y.push_back(place[1]);
      out.z.push_back(dialect_.depths ? 0 - place[2] : place[2]);
      for (std::size_t r = 0; r < kRoles; ++r)
        if (roles_[r] && has(fields, kRoleFacts[r].field)) values[r].push_back(role[r]);
    });
    put(values[kIntensity], out.intensity);
    put(values[kReturnNumber], out.return_number);
    put(values[kReturnCount], out.return_count);
    put(values[kClass], out.classification);
    put(values[kFlags], out.flags);
    put(values[kUser], out.user);
    for (double& a : values[kAngle]) a /= kAngleStep;
    put(values[kAngle], out.angle);
    put(values[kSource], out.source);
    out.time = std::move(values[kTime]);
    put(values[kRed], out.red);
    put(values[kGreen], out.green);
    put(values[kBlue], out.blue);
    put(values[kInfrared], out.infrared);
  }

 private:
  template <class T>
  static void put(const std::vector<double>& from, std::vector<T>& to) {
    to.resize(from.size());
    for (std::size_t i = 0; i < from.size(); ++i)
      to[i] = static_cast<T>(std::clamp<double>(std::round(std::isnan(from[i]) ? 0 : from[i]),
                                                std::numeric_limits<T>::min(), std::numeric_limits<T>::max()));
  }

  // Counts the points once, on all cores: parts tell how many they have and where.
  void look_through() {
    pieces_.resize(piece_count(*file_, dialect_.data));
    for_each_piece(*file_, dialect_.data, [&](std::size_t i, std::uint64_t begin, std::uint64_t end) {
      TextPiece& p = pieces_[i];
      p.begin = begin;
      p.end = end;
      xyz::each_point(*file_, dialect_, begin, end, [&](const xyz::XyzPoint& q) {
        ++p.points;
        p.box.include(Point{q.x, q.y});
        p.lowest = std::min(p.lowest, q.z);
        p.highest = std::max(p.highest, q.z);
      });
    });
    info_.lowest = std::numeric_limits<double>::infinity();
    info_.highest = -info_.lowest;
    for (TextPiece& p : pieces_) {
      p.first = info_.count;
      info_.count += p.points;
      info_.bounds.include(p.box);
      info_.lowest = std::min(info_.lowest, p.lowest);
      info_.highest = std::max(info_.highest, p.highest);
    }
  }

  std::shared_ptr<ByteSource> file_;
  xyz::Dialect dialect_;
  std::array<std::optional<std::size_t>, kRoles> roles_;
  PointInfo info_;
  std::vector<TextPiece> pieces_;
};

// Digits behind the point that tell a multiple of `step` exactly, for steps such as 0.01 and 0.0005.
int decimals_for(double step) {
  for (int d = 0; d < 12; ++d) {
    const double scaled = step * std::pow(10, d);
    if (std::abs(scaled - std::round(scaled)) < 1e-9 * std::max(1.0, scaled) && scaled > 0.5) return d;
  }
  return -1;
}

struct PointColumn {
  std::string name;
  int axis = -1;  // 0 to 2
  int role = -1;
};

std::vector<PointColumn> columns_for(const PointInfo& info, const std::string& asked, bool all) {
  const bool degrees = info.crs.is_geographic();
  std::vector<PointColumn> out{{degrees ? "lon" : "x", 0, -1}, {degrees ? "lat" : "y", 1, -1}, {"z", 2, -1}};
  auto add_role = [&](std::size_t r) { out.push_back({kRoleFacts[r].names[0], -1, static_cast<int>(r)}); };
  if (asked.empty()) {
    for (std::size_t r = 0; r < kRoles && all; ++r)
      if (has(info.fields, kRoleFacts[r].field)) add_role(r);
    return out;
  }
  const std::vector<PointColumn> axes = out;
  out.clear();
  xyz::each_field(asked, ',', [&](std::size_t, std::string_view name) {
    const std::size_t before = out.size();
    for (const PointColumn& a : axes)
      if (name == a.name || name == std::string_view(&"xyz"[a.axis], 1)) out.push_back(a);
    for (std::size_t r = 0; r < kRoles; ++r)
      if (name == kRoleFacts[r].names[0]) add_role(r);
    if (out.size() == before)
      throw Error(ErrorCode::BadArgument, fmt::format("'{}' is not a column of points", name), {},
                  "choose from x, y, z, intensity, return, returns, class, flags, user, angle, line, time, red, green, "
                  "blue, infrared");
    return true;
  });
  return out;
}

void append_role(fmt::memory_buffer& text, const PointBatch& b, std::size_t i, int role) {
  auto to = std::back_inserter(text);
  auto whole = [&](const auto& v) {
    if (v.size() == b.size()) fmt::format_to(to, "{}", v[i]);
  };
  switch (role) {
    case kIntensity:
      whole(b.intensity);
      break;
    case kReturnNumber:
      whole(b.return_number);
      break;
    case kReturnCount:
      whole(b.return_count);
      break;
    case kClass:
      whole(b.classification);
      break;
    case kFlags:
      whole(b.flags);
      break;
    case kUser:
      whole(b.user);
      break;
    case kAngle:
      if (b.angle.size() == b.size()) fmt::format_to(to, "{:.3f}", b.angle[i] * kAngleStep);
      break;
    case kSource:
      whole(b.source);
      break;
    case kTime:
      whole(b.time);
      break;
    case kRed:
      whole(b.red);
      break;
    case kGreen:
      whole(b.green);
      break;
    case kBlue:
      whole(b.blue);
      break;
    default:
      whole(b.infrared);
      break;
  }
}

struct Lines {
  fmt::memory_buffer text;
  std::uint64_t points = 0;
  Bounds box;
  double lowest = std::numeric_limits<double>::infinity(), highest = -std::numeric_limits<double>::infinity();
};

}  // namespace

PointFile open_text_points(const std::shared_ptr<ByteSource>& file, const PointOpenOptions& options) {
  const OpenOptions& o = options.open;
  auto source = std::make_shared<TextPoints>(
      file, xyz::dialect_of(*file, {.columns = o.columns, .delimiter = o.delimiter, .depths = o.depths}), o.depths);
  PointFile out;
  out.facts.format = "text";
  out.facts.bytes = file->size();
  out.facts.declared = source->info().count;
  out.facts.depths_turned = source->dialect().depths;
  const auto& names = source->dialect().names;
  out.facts.compression = fmt::format("columns {}, {}, {}", names[0], names[1], names[2]);
  out.cloud = PointCloud(std::move(source));
  return out;
}

namespace {

void write_lines(const PointCloud& cloud, ByteSink& sink, bool table, const PointWriteOptions& options,
                 PointWriteReport& report) {
  const PointInfo& info = cloud.info();
  const char between = !table ? ' ' : options.delimiter ? options.delimiter : ',';
  const std::vector<PointColumn> columns = columns_for(info, options.columns, table);
  PointFields fields = PointFields::None;
  std::string head;
  for (const PointColumn& c : columns) {
    if (!head.empty()) head += between;
    head += c.name;
    if (c.role >= 0) fields = fields | kRoleFacts[static_cast<std::size_t>(c.role)].field;
  }
  head += '\n';
  int decimals[3] = {-1, -1, -1};
  for (int a = 0; a < 3 && info.lattice; ++a) decimals[a] = decimals_for(info.lattice->step[a]);
  std::uint64_t at = 0;
  auto place = [&](const char* data, std::size_t n) {
    sink.write_at(at, {reinterpret_cast<const std::uint8_t*>(data), n});
    at += n;
  };
  place(head.data(), head.size());
  report.lowest = std::numeric_limits<double>::infinity();
  report.highest = -report.lowest;
  map_points(
      cloud, fields, options.run,
      [&](std::size_t, PointBatch& b) -> std::shared_ptr<void> {
        auto lines = std::make_shared<Lines>();
        const std::vector<double>* axes[3] = {&b.x, &b.y, &b.z};
        lines->points = b.size();
        for (std::size_t i = 0; i < b.size(); ++i) {
          lines->box.include(Point{b.x[i], b.y[i]});
          lines->lowest = std::min(lines->lowest, b.z[i]);
          lines->highest = std::max(lines->highest, b.z[i]);
          for (std::size_t c = 0; c < columns.size(); ++c) {
            if (c > 0) lines->text.push_back(between);
            const int axis = columns[c].axis;
            if (axis < 0)
              append_role(lines->text, b, i, columns[c].role);
            else if (decimals[axis] >= 0)
              fmt::format_to(std::back_inserter(lines->text), "{:.{}f}", (*axes[axis])[i], decimals[axis]);
            else
              fmt::format_to(std::back_inserter(lines->text), "{}", (*axes[axis])[i]);
          }
          lines->text.push_back('\n');
        }
        return lines;
      },
      [&](std::shared_ptr<void> result) {
        const Lines& l = *static_cast<const Lines*>(result.get());
        place(l.text.data(), l.text.size());
        report.points += l.points;
        report.bounds.include(l.box);
        report.lowest = std::min(report.lowest, l.lowest);
        report.highest = std::max(report.highest, l.highest);
      });
  report.bytes = at;
  report.format = "text";
}

}  // namespace

void write_xyz_points(const PointCloud& cloud, ByteSink& sink, const PointWriteOptions& options,
                      PointWriteReport& report) {
  write_lines(cloud, sink, false, options, report);
}

void write_table_points(const PointCloud& cloud, ByteSink& sink, const PointWriteOptions& options,
                        PointWriteReport& report) {
  write_lines(cloud, sink, true, options, report);
}

}  // namespace katoptra
