// The size of the whole that an answer of 206 tells ("bytes 0-65535/345202"); nullopt when it does not.
#pragma once
#include <cstdint>
#include <optional>
#include <string>

#include "katoptra/base/units.hpp"
#include "katoptra/formats/http.hpp"

namespace katoptra {

inline std::optional<std::uint64_t> range_total(const HttpResponse& head) {
  const std::string range = head.header("content-range");
  const auto slash = range.rfind('/');
  const auto n = slash == range.npos ? std::nullopt : parse_number(range.substr(slash + 1));
  return n && *n >= 0 && *n < 9e15 ? std::optional(static_cast<std::uint64_t>(*n)) : std::nullopt;
}

}  // namespace katoptra
