// The header of LAS files and its records, and the records of points in bytes.
#pragma once
#include <array>
#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "katoptra/formats/bytes.hpp"
#include "katoptra/points/points.hpp"

#include "laz_chunk.hpp"

namespace katoptra::las {

inline constexpr int kRecordLength[11] = {20, 28, 26, 34, 57, 63, 30, 36, 38, 59, 67};
// What a point format has beside x, y and z.
PointFields fields_of(int point_format);

struct Record {
  std::string user;
  int id = 0;
  std::vector<std::uint8_t> bytes;
};

struct Header {
  int minor = 4, point_format = 6, record_length = 30;
  bool compressed = false, wkt = false, standard_time = true;
  int day = 0, year = 0;
  std::string system, software;
  std::uint32_t header_size = 375;
  std::uint64_t points_at = 0, points = 0, legacy_points = 0;
  std::array<std::uint64_t, 15> by_return{};
  PointLattice lattice;
  double lowest[3] = {}, highest[3] = {};
  std::vector<Record> records;  // those before the points, and those behind that we know
  std::vector<std::string> problems;

  const Record* find(std::string_view user, int id) const;
  int extra_bytes() const { return record_length - kRecordLength[point_format]; }
};

// BadFile with the name of the file.
[[noreturn]] void damaged(const ByteSource& file, const std::string& what);
// The same where the points before the damage can be had.
[[noreturn]] void damaged_behind(const ByteSource& file, const std::string& what);

// BadFile or Unsupported with the name of the file.
Header read_header(const ByteSource& file);
// Header and records as they stand before the points; `points_at` follows from their size.
std::vector<std::uint8_t> header_bytes(Header& header);

std::vector<ExtraAttribute> extra_attributes(const Header& header);

// CRS, unit and vertical reference by the records.
struct References {
  Crs crs;
  std::string crs_name;
  HeightReference heights;
  std::optional<LengthUnit> unit;
  std::vector<std::string> notes;
};
References read_references(const Header& header);
void write_references(Header& header, const PointInfo& info, std::vector<std::string>& notes);

// Records of one format to columns and back. `stride`: bytes from one record to the next.
void records_to_batch(const Header& header, const std::uint8_t* records, std::size_t n, PointFields fields,
                      PointBatch& out);
// TooLarge when a coordinate is beyond the integers; columns that are missing become zero.
void batch_to_records(const Header& header, const PointBatch& batch, std::uint8_t* records);

}  // namespace katoptra::las
