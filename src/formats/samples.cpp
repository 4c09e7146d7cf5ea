#include "samples.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <limits>
#include <type_traits>

#include "katoptra/base/error.hpp"

#include "base/clones.hpp"

namespace katoptra {
namespace {

// Calls f with a value of the C++ type behind a sample type.
template <class F>
void with_type(SampleType t, const F& f) {
  switch (t) {
    case SampleType::UInt8:
      return f(std::uint8_t{});
    case SampleType::Int8:
      return f(std::int8_t{});
    case SampleType::UInt16:
      return f(std::uint16_t{});
    case SampleType::Int16:
      return f(std::int16_t{});
    case SampleType::UInt32:
      return f(std::uint32_t{});
    case SampleType::Int32:
      return f(std::int32_t{});
    case SampleType::UInt64:
      return f(std::uint64_t{});
    case SampleType::Int64:
      return f(std::int64_t{});
    case SampleType::Float32:
      return f(float{});
    case SampleType::Float64:
      return f(double{});
  }
}

// The void value in the sample type; nullopt when no sample can be it.
template <class T>
std::optional<T> hole_as(const std::optional<double>& hole) {
  if (!hole) return std::nullopt;
  const double v = *hole;
  if constexpr (std::is_floating_point_v<T>) {
    if (std::isnan(v) || std::abs(v) >= kNoValueFrom) return std::nullopt;  // voids anyway
    return static_cast<T>(v);
  } else {
    if (!(v >= static_cast<double>(std::numeric_limits<T>::lowest()) &&
          v <= static_cast<double>(std::numeric_limits<T>::max()) && v == std::nearbyint(v)))
      return std::nullopt;
    // As doubles the largest 64-bit values round to one beyond the type.
    if (v >= static_cast<double>(std::numeric_limits<T>::max())) return std::numeric_limits<T>::max();
    return static_cast<T>(v);
  }
}

// Floats as they stand, but for what means a void.
KATOPTRA_CLONES void copy_floats(const float* __restrict in, std::int64_t n, float hole, float* __restrict to) {
  for (std::int64_t i = 0; i < n; ++i) {
    const float v = in[i];
    to[i] = (v == hole) | !(std::abs(v) < static_cast<float>(kNoValueFrom)) ? kVoid : v;
  }
}

template <class T>
void to_floats(const SampleRule& rule, const T* in, std::int64_t stride, std::int64_t n, float* to) {
  if constexpr (std::is_same_v<T, float>)
    if (stride == 1 && !rule.is_scaled()) return copy_floats(in, n, hole_as<float>(rule.hole).value_or(kVoid), to);
  if (const auto hole = hole_as<T>(rule.hole))
    for (std::int64_t i = 0; i < n; ++i) {
      const T v = in[i * stride];
      to[i] = v == *hole ? kVoid : static_cast<float>(v);
    }
  else
    for (std::int64_t i = 0; i < n; ++i) to[i] = static_cast<float>(in[i * stride]);
  if constexpr (std::is_floating_point_v<T>)
    for (std::int64_t i = 0; i < n; ++i)
      if (!(std::abs(to[i]) < static_cast<float>(kNoValueFrom))) to[i] = kVoid;
  if (rule.is_scaled())
    for (std::int64_t i = 0; i < n; ++i)
      to[i] = std::isnan(to[i]) ? kVoid
                                : static_cast<float>(static_cast<double>(in[i * stride]) * rule.scale + rule.offset);
}

// Floats as they stand, voids as `hole`; whether one of the others is that, too.
KATOPTRA_CLONES bool put_floats(const float* __restrict in, std::size_t n, float hole, float* __restrict to) {
  std::uint32_t same = 0;
  for (std::size_t i = 0; i < n; ++i) {
    const float v = in[i];
    same |= v == hole ? 1u : 0u;
    to[i] = v == v ? v : hole;
  }
  return same != 0;
}

// Converts values and finds those that the type cannot hold.
template <class T>
void from_floats(const float* in, std::size_t n, T hole, T* to, bool& collides, bool& overflows) {
  if constexpr (std::is_same_v<T, float>) {
    collides = put_floats(in, n, hole, to) || collides;
    return;
  }
  for (std::size_t i = 0; i < n; ++i) {
    const float v = in[i];
    if (std::isnan(v)) {
      to[i] = hole;
      continue;
    }
    if constexpr (std::is_floating_point_v<T>) {
      to[i] = static_cast<T>(v);
    } else {
      const double r = std::nearbyint(static_cast<double>(v));
      if (r < static_cast<double>(std::numeric_limits<T>::lowest()) ||
          r > static_cast<double>(std::numeric_limits<T>::max())) {
        overflows = true;
        to[i] = hole;
        continue;
      }
      to[i] = static_cast<T>(r);
    }
    if (to[i] == hole) collides = true;
  }
}

double default_void(SampleType t) {
  if (t == SampleType::UInt8 || t == SampleType::UInt16 || t == SampleType::UInt32 || t == SampleType::UInt64)
    return t == SampleType::UInt64 ? 9007199254740992.0 : highest_of(t);  // 2^53: exact as text and as a number
  if (is_integer(t)) return lowest_of(t);
  return std::numeric_limits<double>::quiet_NaN();
}

}  // namespace

void samples_to_floats(const SampleRule& rule, const std::uint8_t* from, std::int64_t stride, std::int64_t n,
                       float* to) {
  with_type(rule.type, [&]<class T>(T) { to_floats(rule, reinterpret_cast<const T*>(from), stride, n, to); });
}

StoredAs stored_as(const GridInfo& info, const std::optional<double>& void_value, const std::string& file) {
  StoredAs t{info.type, default_void(info.type)};
  auto fits = [&](double v) {
    if (std::isnan(v)) return !is_integer(t.type);
    return !is_integer(t.type) || (v == std::nearbyint(v) && v >= lowest_of(t.type) && v <= highest_of(t.type));
  };
  const QuantityKind kind = info.quantity.kind;
  if ((kind == QuantityKind::Shade || !classes_of(kind).empty()) && t.type == SampleType::UInt8) t.void_value = 0;
  if (info.file_void && fits(*info.file_void)) t.void_value = *info.file_void;
  if (void_value) {
    if (!fits(*void_value))
      throw Error(ErrorCode::BadArgument,
                  fmt::format("{} cannot be the void value of {}", *void_value, name_of(t.type)), file,
                  "choose one that the sample type holds");
    t.void_value = *void_value;
  }
  return t;
}

void floats_to_samples(const float* in, std::size_t n, const StoredAs& as, std::uint8_t* out, const std::string& file) {
  bool collides = false, overflows = false;
  with_type(as.type, [&]<class T>(T) {
    from_floats<T>(in, n, static_cast<T>(as.void_value), reinterpret_cast<T*>(out), collides, overflows);
  });
  if (overflows)
    throw Error(ErrorCode::BadArgument, fmt::format("a value does not fit into {}", name_of(as.type)), file,
                "convert to float32 first");
  if (collides)
    throw VoidCollision(ErrorCode::BadArgument,
                        fmt::format("{} is the void value and also a value of the data", as.void_value), file,
                        "choose another with --void");
}

void describe_samples(const SampleRule& rule, GridInfo& info) {
  info.type = rule.type;
  info.file_void = rule.hole;
  if (rule.is_scaled()) {
    info.notes.push_back(fmt::format("its {} samples stand for sample x {:g} + {:g}: handled as float32",
                                     name_of(rule.type), rule.scale, rule.offset));
    info.type = SampleType::Float32;
    info.file_void.reset();
  } else if (bytes_per_sample(rule.type) > 4 || rule.type == SampleType::Int32 || rule.type == SampleType::UInt32) {
    info.notes.push_back(fmt::format("{} values are handled with 24 significant bits", name_of(rule.type)));
  }
}

}  // namespace katoptra
