// How points are written in text: what stands between columns, which they are, and the lines one by one.
#pragma once
#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/xyz.hpp"

#include "base/text.hpp"
#include "text_scan.hpp"

namespace katoptra::xyz {

struct Dialect {
  char delimiter = ' ';
  bool decimal_comma = false, header = false, depths = false;
  std::array<std::size_t, 3> columns{0, 1, 2};
  std::array<std::string, 3> names{"column 1", "column 2", "column 3"};
  std::uint64_t data = 0;  // where the first line of numbers begins
  bool geographic = false;
  std::vector<std::string> header_names;
};

inline std::string_view next_line(std::string_view text, std::size_t& at) {
  const std::size_t end = std::min(text.find('\n', at), text.size());
  std::string_view line = text.substr(at, end - at);
  at = std::min(end + 1, text.size());
  if (!line.empty() && line.back() == '\r') line.remove_suffix(1);
  return line;
}
inline bool is_comment(std::string_view line) {
  const auto first = line.find_first_not_of(" \t");
  return first == line.npos || line[first] == '#' || line.substr(first).starts_with("//");
}

// Calls body(number of the field, field) until it returns false.
template <class Body>
void each_field(std::string_view line, char delimiter, const Body& body) {
  std::size_t at = 0, n = 0;
  if (delimiter == ' ') {
    while (at < line.size()) {
      while (at < line.size() && is_blank(line[at])) ++at;
      const std::size_t begin = at;
      while (at < line.size() && !is_blank(line[at])) ++at;
      if (at > begin && !body(n++, line.substr(begin, at - begin))) return;
    }
    return;
  }
  for (; at <= line.size(); ++n) {
    const std::size_t end = std::min(line.find(delimiter, at), line.size());
    std::string_view field = line.substr(at, end - at);
    while (!field.empty() && is_blank(field.front())) field.remove_prefix(1);
    while (!field.empty() && is_blank(field.back())) field.remove_suffix(1);
    if (field.size() >= 2 && field.front() == '"' && field.back() == '"') field = field.substr(1, field.size() - 2);
    if (!body(n, field)) return;
    at = end + 1;
  }
}
inline std::vector<std::string> fields_of(std::string_view line, char delimiter) {
  std::vector<std::string> out;
  each_field(line, delimiter, [&](std::size_t, std::string_view f) {
    out.emplace_back(f);
    return true;
  });
  return out;
}

inline bool field_number(std::string_view field, bool decimal_comma, double& value) {
  if (!decimal_comma || field.find(',') == field.npos) return parse_token(field, value);
  std::string with_point(field);
  std::replace(with_point.begin(), with_point.end(), ',', '.');
  return parse_token(with_point, value);
}

inline std::size_t numbers_in(std::string_view line, char delimiter, bool decimal_comma) {
  std::size_t n = 0;
  each_field(line, delimiter, [&](std::size_t, std::string_view f) {
    double v = 0;
    n += field_number(f, decimal_comma, v);
    return true;
  });
  return n;
}

inline char found_delimiter(std::string_view line, bool& decimal_comma) {
  for (char d : {';', '\t', ',', ' '}) {
    decimal_comma = d != ',' && line.find(',') != line.npos && line.find('.') == line.npos;
    if (line.find(d) != line.npos && numbers_in(line, d, decimal_comma) >= 3) return d;
  }
  decimal_comma = false;
  return 0;
}

enum class Meaning { None, X, Y, Z };
inline Meaning meaning_of(const std::string& name, Dialect& d, bool apply) {
  const std::string n = lower_case(name);
  auto is = [&](std::initializer_list<const char*> names) {
    return std::any_of(names.begin(), names.end(), [&](const char* k) { return n == k; });
  };
  const bool lon = is({"lon", "long", "longitude"}), lat = is({"lat", "latitude"}), depth = is({"depth", "depths"});
  if (apply && (lon || lat)) d.geographic = true;
  if (apply && depth) d.depths = true;
  if (lon || is({"x", "e", "east", "easting"})) return Meaning::X;
  if (lat || is({"y", "n", "north", "northing"})) return Meaning::Y;
  if (depth || is({"z", "h", "height", "elev", "elevation", "alt", "altitude", "value"})) return Meaning::Z;
  return Meaning::None;
}

inline void columns_from_names(const std::vector<std::string>& names, Dialect& d) {
  std::array<std::optional<std::size_t>, 3> found;
  for (std::size_t i = 0; i < names.size(); ++i) {
    const Meaning m = meaning_of(names[i], d, true);
    if (m != Meaning::None && !found[static_cast<std::size_t>(m) - 1]) found[static_cast<std::size_t>(m) - 1] = i;
  }
  for (std::size_t k = 0; k < 3; ++k) {
    if (found[0] && found[1] && found[2]) d.columns[k] = *found[k];
    if (d.columns[k] < names.size()) d.names[k] = names[d.columns[k]];
  }
}

inline void columns_as_asked(const std::string& asked, const std::vector<std::string>& names, Dialect& d,
                             const std::string& file) {
  const auto parts = fields_of(asked, ',');
  if (parts.size() != 3)
    throw Error(ErrorCode::BadArgument, fmt::format("'{}' does not name three columns", asked), file,
                "write three numbers from 1 or three names, such as 1,2,4 or east,north,z");
  for (std::size_t k = 0; k < 3; ++k) {
    double number = 0;
    const auto named = std::find(names.begin(), names.end(), parts[k]);
    if (named != names.end()) {
      d.columns[k] = static_cast<std::size_t>(named - names.begin());
    } else if (parse_token(parts[k], number) && number >= 1 && number <= 1000 && number == std::floor(number)) {
      d.columns[k] = static_cast<std::size_t>(number) - 1;
    } else {
      throw Error(ErrorCode::BadArgument, fmt::format("there is no column '{}'", parts[k]), file,
                  names.empty() ? "it has no header line: give numbers from 1" : "its header has other names");
    }
    d.names[k] = d.columns[k] < names.size() ? names[d.columns[k]] : fmt::format("column {}", d.columns[k] + 1);
    meaning_of(d.names[k], d, true);
  }
}

inline Dialect dialect_of(const ByteSource& bytes, const XyzOptions& options) {
  const std::string text = text_between(bytes, 0, std::min<std::uint64_t>(bytes.size(), 1 << 16));
  Dialect d;
  std::size_t at = text.starts_with("\xEF\xBB\xBF") ? 3 : 0;
  std::string_view header, first;
  while (at < text.size()) {
    const std::size_t begin = at;
    const std::string_view line = next_line(text, at);
    if (is_comment(line)) continue;
    d.delimiter = options.delimiter ? options.delimiter : found_delimiter(line, d.decimal_comma);
    if (options.delimiter) d.decimal_comma = options.delimiter != ',' && line.find('.') == line.npos;
    if (d.delimiter && numbers_in(line, d.delimiter, d.decimal_comma) >= 3) {
      first = line;
      d.data = begin;
      break;
    }
    if (d.header) break;
    d.header = true;
    header = line;
  }
  if (first.empty())
    throw Error(ErrorCode::BadFile, "has no line with three numbers near its beginning", bytes.name(),
                "XYZ text has x, y and z on each line; say with --columns and --delimiter how");
  std::vector<std::string> names;
  if (d.header) names = fields_of(header, d.delimiter);
  // A name may be written with blanks around the delimiter, or the header by another delimiter than the numbers.
  if (d.header && names.size() < 3)
    for (char other : {';', '\t', ',', ' '})
      if (auto n = fields_of(header, other); n.size() >= 3) {
        names = n;
        break;
      }
  d.header_names = names;
  if (!options.columns.empty())
    columns_as_asked(options.columns, names, d, bytes.name());
  else
    columns_from_names(names, d);
  d.depths = d.depths || options.depths;
  return d;
}

struct XyzPoint {
  double x = 0, y = 0, z = 0;
  bool whole = true;
};

// Calls body(line, the byte where it begins) for the lines with content that begin in [begin, end).
template <class Body>
void each_line(const ByteSource& bytes, const Dialect& d, std::uint64_t begin, std::uint64_t end, const Body& body) {
  constexpr std::uint64_t kLongestLine = 1 << 16;
  const bool inside = begin > d.data;
  const std::string text = text_between(bytes, begin - inside, std::min(bytes.size(), end + kLongestLine));
  std::size_t at = 0;
  if (inside) {
    // The line that was under way belongs to the piece before.
    at = std::min(text.find('\n'), text.size());
    if (at < text.size()) ++at;
  }
  const std::size_t last = static_cast<std::size_t>(end - begin) + inside;
  while (at < last && at < text.size()) {
    const std::size_t line_at = at;
    const std::string_view line = next_line(text, at);
    if (!is_comment(line)) body(line, begin - inside + line_at);
  }
}

[[noreturn]] inline void refuse_line(const ByteSource& bytes, std::string_view line, std::uint64_t at) {
  throw Error(ErrorCode::BadFile, fmt::format("the line at byte {} has no three numbers: '{}'", at, line.substr(0, 40)),
              bytes.name(), "mend the line, or say with --columns and --delimiter how to read it");
}

// Calls body(point) for the lines that begin in [begin, end).
template <class Body>
void each_point(const ByteSource& bytes, const Dialect& d, std::uint64_t begin, std::uint64_t end, const Body& body) {
  each_line(bytes, d, begin, end, [&](std::string_view line, std::uint64_t line_at) {
    XyzPoint p;
    double* const to[3] = {&p.x, &p.y, &p.z};
    int found = 0;
    each_field(line, d.delimiter, [&](std::size_t n, std::string_view f) {
      for (std::size_t k = 0; k < 3; ++k)
        if (d.columns[k] == n) {
          if (!field_number(f, d.decimal_comma, *to[k])) return false;
          ++found;
          if (k == 2) p.whole = f.find_first_not_of("-+0123456789") == f.npos;
        }
      return found < 3;
    });
    if (found < 3 || !std::isfinite(p.x) || !std::isfinite(p.y)) refuse_line(bytes, line, line_at);
    if (d.depths) p.z = 0 - p.z;
    body(p);
  });
}

}  // namespace katoptra::xyz
