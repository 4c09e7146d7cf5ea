// The head of a TIFF: its directories and their tables, in front of everything else. Its size is known from the numbers
// of tiles, so its place is kept free and filled in at the end.
#pragma once
#include <cstdint>
#include <cstring>
#include <string>
#include <utility>
#include <vector>

#include "katoptra/grid/frame.hpp"

#include "geokeys.hpp"

namespace katoptra::tiff {

class LittleEndian {
 public:
  void u16(std::uint64_t v) { put(v, 2); }
  void u32(std::uint64_t v) { put(v, 4); }
  void u64(std::uint64_t v) { put(v, 8); }
  void put(std::uint64_t v, int n) {
    for (int i = 0; i < n; ++i) bytes.push_back(static_cast<std::uint8_t>(v >> (8 * i)));
  }
  std::vector<std::uint8_t> bytes;
};

struct Tag {
  int id, type;
  std::uint64_t count;
  std::vector<std::uint8_t> data;
};

inline constexpr int kAscii = 2, kShort = 3, kLong = 4, kDouble = 12, kLong8 = 16;

inline Tag shorts(int id, const std::vector<std::uint16_t>& v) {
  LittleEndian d;
  for (auto x : v) d.u16(x);
  return {id, kShort, v.size(), d.bytes};
}
inline Tag longs(int id, const std::vector<std::uint64_t>& v, bool big) {
  LittleEndian d;
  for (auto x : v) d.put(x, big ? 8 : 4);
  return {id, big ? kLong8 : kLong, v.size(), d.bytes};
}
inline Tag doubles(int id, const std::vector<double>& v) {
  LittleEndian d;
  for (double x : v) {
    std::uint64_t bits = 0;
    std::memcpy(&bits, &x, 8);
    d.u64(bits);
  }
  return {id, kDouble, v.size(), d.bytes};
}
inline Tag text(int id, const std::string& s) {
  Tag t{id, kAscii, s.size() + 1, {s.begin(), s.end()}};
  t.data.push_back(0);
  return t;
}

// Where the picture lies.
inline void append_place(std::vector<Tag>& t, const Frame& f, const GeoTags& g) {
  t.push_back(doubles(33550, {f.cell().x, f.cell().y, 0}));
  t.push_back(doubles(33922, {0, 0, 0, f.west(), f.north(), 0}));
  if (!g.directory.empty()) t.push_back(shorts(34735, g.directory));
  if (!g.doubles.empty()) t.push_back(doubles(34736, g.doubles));
  if (!g.text.empty()) t.push_back(text(34737, std::string(g.text.c_str())));
}

// Header and a directory a level; tags ascending.
inline std::vector<std::uint8_t> head_of(const std::vector<std::vector<Tag>>& levels, bool big) {
  const std::size_t header = big ? 16 : 8, entry = big ? 20 : 12, inline_bytes = big ? 8 : 4, fixed = big ? 16 : 6;
  LittleEndian out;
  out.bytes = {'I', 'I'};
  out.u16(big ? 43 : 42);
  if (big) {
    out.u16(8);
    out.u16(0);
  }
  out.put(header, static_cast<int>(inline_bytes));
  for (std::size_t which = 0; which < levels.size(); ++which) {
    const std::vector<Tag>& ts = levels[which];
    const std::size_t start = out.bytes.size(), tables = start + fixed + entry * ts.size();
    LittleEndian extra;
    out.put(ts.size(), big ? 8 : 2);
    for (const Tag& tag : ts) {
      out.u16(static_cast<std::uint64_t>(tag.id));
      out.u16(static_cast<std::uint64_t>(tag.type));
      out.put(tag.count, static_cast<int>(inline_bytes));
      if (tag.data.size() <= inline_bytes) {
        out.bytes.insert(out.bytes.end(), tag.data.begin(), tag.data.end());
        out.bytes.resize(out.bytes.size() + inline_bytes - tag.data.size());
      } else {
        out.put(tables + extra.bytes.size(), static_cast<int>(inline_bytes));
        extra.bytes.insert(extra.bytes.end(), tag.data.begin(), tag.data.end());
        while (extra.bytes.size() % 8) extra.bytes.push_back(0);
      }
    }
    const std::size_t next = tables + extra.bytes.size();
    const std::size_t aligned = (next + 7) / 8 * 8;
    out.put(which + 1 < levels.size() ? aligned : 0, static_cast<int>(inline_bytes));
    out.bytes.insert(out.bytes.end(), extra.bytes.begin(), extra.bytes.end());
    out.bytes.resize(aligned);
  }
  return std::move(out.bytes);
}

}  // namespace katoptra::tiff
