// Numbers in text files that may be larger than memory: pieces are read and looked through on all cores.
#pragma once
#include <charconv>
#include <cstdint>
#include <map>
#include <sstream>
#include <string>
#include <string_view>
#include <vector>

#include "katoptra/base/parallel.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/formats/bytes.hpp"

#include "base/text.hpp"

namespace katoptra {

inline constexpr std::uint64_t kTextPiece = std::uint64_t{4} << 20;

inline bool is_blank(char c) { return c == ' ' || c == '\n' || c == '\r' || c == '\t'; }

// Bytes [from, to) as text.
inline std::string text_between(const ByteSource& bytes, std::uint64_t from, std::uint64_t to) {
  std::string text(static_cast<std::size_t>(to - from), '\0');
  bytes.read_exactly(from, std::span(reinterpret_cast<std::uint8_t*>(text.data()), text.size()));
  return text;
}

// Calls body(piece, first byte, last byte) in parallel for pieces of [from, size).
template <class Body>
void for_each_piece(const ByteSource& bytes, std::uint64_t from, const Body& body) {
  const std::uint64_t size = bytes.size();
  const auto pieces = static_cast<std::size_t>((size - std::min(from, size) + kTextPiece - 1) / kTextPiece);
  parallel_for(pieces, {}, [&](std::size_t i) {
    const std::uint64_t begin = from + i * kTextPiece;
    body(i, begin, std::min(size, begin + kTextPiece));
  });
}
inline std::size_t piece_count(const ByteSource& bytes, std::uint64_t from) {
  return static_cast<std::size_t>((bytes.size() - std::min(from, bytes.size()) + kTextPiece - 1) / kTextPiece);
}

// "KEY value" lines, both in lower case; what follows the value is not looked at.
inline std::map<std::string, std::string> keyword_lines(const std::string& text) {
  std::map<std::string, std::string> keys;
  std::istringstream lines(text);
  for (std::string line; std::getline(lines, line);) {
    std::istringstream words(line);
    std::string key, value;
    if (words >> key >> value) keys[lower_case(key)] = lower_case(value);
  }
  return keys;
}

// A number as text files have it; false when the token is none. "nan" and infinities are NaN.
inline bool parse_token(std::string_view token, double& value) {
  if (!token.empty() && token.front() == '+') token.remove_prefix(1);
  const auto [end, error] = std::from_chars(token.data(), token.data() + token.size(), value);
  return error == std::errc() && end == token.data() + token.size();
}

}  // namespace katoptra
