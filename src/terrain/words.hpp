// Words for the values of an enumeration, in their order.
#pragma once
#include <cstddef>
#include <fmt/format.h>
#include <string>
#include <string_view>

#include "katoptra/base/error.hpp"

namespace katoptra {

// BadArgument, with the words there are, for another one. `is`: "is no kind of ruggedness".
template <class Enum, std::size_t N>
Enum value_of(const char* const (&words)[N], std::string_view text, const char* is) {
  std::string all;
  for (std::size_t i = 0; i < N; ++i) {
    if (text == words[i]) return static_cast<Enum>(i);
    all += (i == 0 ? "" : i + 1 == N ? " or " : ", ") + std::string(words[i]);
  }
  throw Error(ErrorCode::BadArgument, fmt::format("'{}' {}", text, is), {}, "use " + all);
}

}  // namespace katoptra
