// One function a reader: takes any bytes, may throw nothing and must not crash.
#pragma once
#include <cstdint>
#include <functional>
#include <map>
#include <span>
#include <string>

namespace katoptra::fuzz {

using Target = std::function<void(std::span<const std::uint8_t>)>;
const std::map<std::string, Target>& targets();

}  // namespace katoptra::fuzz
