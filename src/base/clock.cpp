#include "clock.hpp"

#include <array>
#include <charconv>
#include <cmath>
#include <fmt/chrono.h>

namespace katoptra {
namespace {

// Two or four digits in front of the text, which goes on behind them.
std::optional<int> digits(std::string_view& text, std::size_t n) {
  int value = 0;
  if (text.size() < n) return std::nullopt;
  const auto [end, problem] = std::from_chars(text.data(), text.data() + n, value);
  if (problem != std::errc() || end != text.data() + n || text[0] == '-') return std::nullopt;
  text.remove_prefix(n);
  return value;
}

bool skip(std::string_view& text, char c) {
  if (text.empty() || text.front() != c) return false;
  text.remove_prefix(1);
  return true;
}

int days_of_month(int year, int month) {
  constexpr std::array<int, 12> kDays = {31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31};
  const bool leap = (year % 4 == 0 && year % 100 != 0) || year % 400 == 0;
  return kDays[static_cast<std::size_t>(month - 1)] + (month == 2 && leap ? 1 : 0);
}

// Days since 1 January 1970 (after Meeus, chapter 7).
int days_since_1970(int year, int month, int day) {
  if (month <= 2) {
    --year;
    month += 12;
  }
  const int century = year / 100;
  return static_cast<int>(std::floor(365.25 * (year + 4716))) + static_cast<int>(std::floor(30.6001 * (month + 1))) +
         day + 2 - century + century / 4 - 1524 - 2440588;
}

// Minutes that a clock is ahead of UTC: "Z", "+01:00".
std::optional<int> minutes_ahead(std::string_view& rest) {
  if (skip(rest, 'Z')) return 0;
  const bool behind = !rest.empty() && rest.front() == '-';
  if (!behind && (rest.empty() || rest.front() != '+')) return std::nullopt;
  rest.remove_prefix(1);
  const auto hours = digits(rest, 2);
  const bool colon = skip(rest, ':');
  const auto minutes = digits(rest, 2);
  if (!hours || !colon || !minutes || *hours > 14 || *minutes > 59) return std::nullopt;
  return (behind ? -1 : 1) * (60 * *hours + *minutes);
}

}  // namespace

std::optional<double> seconds_of(std::string_view rest) {
  const auto year = digits(rest, 4);
  if (!year || !skip(rest, '-')) return std::nullopt;
  const auto month = digits(rest, 2);
  if (!month || *month < 1 || *month > 12 || !skip(rest, '-')) return std::nullopt;
  const auto day = digits(rest, 2);
  if (!day || *day < 1 || *day > days_of_month(*year, *month) || !skip(rest, 'T')) return std::nullopt;
  const auto hour = digits(rest, 2);
  if (!hour || *hour > 23 || !skip(rest, ':')) return std::nullopt;
  const auto minute = digits(rest, 2);
  if (!minute || *minute > 59) return std::nullopt;
  double second = 0;
  if (skip(rest, ':')) {
    const auto s = digits(rest, 2);
    if (!s || *s > 59) return std::nullopt;
    second = *s;
    if (skip(rest, '.')) {
      double part = 0.1;
      if (rest.empty() || rest.front() < '0' || rest.front() > '9') return std::nullopt;
      for (; !rest.empty() && rest.front() >= '0' && rest.front() <= '9'; rest.remove_prefix(1), part /= 10)
        second += part * (rest.front() - '0');
    }
  }
  const auto ahead = minutes_ahead(rest);
  if (!ahead || !rest.empty()) return std::nullopt;
  return 86400.0 * days_since_1970(*year, *month, *day) + 3600.0 * *hour + 60.0 * (*minute - *ahead) + second;
}

std::string time_text(double seconds) {
  return fmt::format("{:%Y-%m-%dT%H:%M:%S}Z", fmt::gmtime(static_cast<std::time_t>(std::llround(seconds))));
}

}  // namespace katoptra
