// JSON of remote services.
#pragma once
#include <string>

#include "katoptra/base/error.hpp"

#include "base/json.hpp"
#include "formats/vector/geojson.hpp"

namespace katoptra {

// JSON of a remote service nests no deeper than this, so that no stack ends.
inline constexpr int kDeepestJson = 64;
// BadFile when it is no JSON, or too deep.
json parse_json(std::string_view text, const std::string& where);

}  // namespace katoptra
