// Times of day, as files tell them (ISO 8601).
#pragma once
#include <optional>
#include <string>
#include <string_view>

namespace katoptra {

// Seconds since 1970 by UTC of "2026-06-21T09:30Z", with seconds and parts of them if wanted, or with an offset from
// UTC
// ("2026-06-21T07:30-02:00"); nothing for anything else.
std::optional<double> seconds_of(std::string_view time);
// To the second, by UTC.
std::string time_text(double seconds);

}  // namespace katoptra
