// Values as bytes on their way to a process that runs the same program on the same kind of machine.
#pragma once
#include <cstdint>
#include <cstring>
#include <span>
#include <type_traits>
#include <utility>
#include <vector>

#include "katoptra/base/error.hpp"

namespace katoptra {

class Packer {
 public:
  template <class T>
  void put(const T& v) {
    static_assert(std::is_trivially_copyable_v<T>);
    append(&v, sizeof v);
  }
  template <class T>
  void put(const std::vector<T>& v) {
    static_assert(std::is_trivially_copyable_v<T>);
    put(v.size());
    append(v.data(), v.size() * sizeof(T));
  }
  std::vector<std::uint8_t> bytes;

 private:
  void append(const void* from, std::size_t n) {
    const auto* p = static_cast<const std::uint8_t*>(from);
    bytes.insert(bytes.end(), p, p + n);
  }
};

// Takes them out in the same order. Internal: they are not what they were said to be.
class Unpacker {
 public:
  explicit Unpacker(std::span<const std::uint8_t> bytes) : left_(bytes) {}
  template <class T>
  T take() {
    T v;
    read(&v, 1);
    return v;
  }
  template <class T>
  std::vector<T> take_all() {
    const auto n = take<std::size_t>();
    if (n > left_.size() / sizeof(T)) ends_early();
    std::vector<T> v(n);
    read(v.data(), n);
    return v;
  }
  bool empty() const { return left_.empty(); }
  std::span<const std::uint8_t> left() const { return left_; }

 private:
  template <class T>
  void read(T* to, std::size_t n) {
    static_assert(std::is_trivially_copyable_v<T>);
    if (n * sizeof(T) > left_.size()) ends_early();
    if (n > 0) std::memcpy(to, left_.data(), n * sizeof(T));
    left_ = left_.subspan(n * sizeof(T));
  }
  [[noreturn]] static void ends_early() { throw Error(ErrorCode::Io, "what another process sent ends early"); }
  std::span<const std::uint8_t> left_;
};

// The fields of a result, named once for both ways:
//
//   struct Part {
//     std::vector<Run> runs;
//     double sum;
//     template <class Fields>
//     void fields(Fields& f) { f(runs, sum); }
//   };
//   FieldPacker{packer}(part);
//   FieldUnpacker{unpacker}(part);
//
// Of types that are copied byte by byte, containers of such and of one another, and whatever names its fields or
// counts.
template <class T>
concept HasFields = requires(T& t, Packer& any) {
  t.fields(any);
};
template <class T>
concept HasCounts = requires(T& t) {
  t.add_packed(t.packed());
};
template <class T>
concept IsMap = requires {
  typename T::mapped_type;
};
template <class T>
concept IsRange = requires(T& t) {
  typename T::value_type;
  t.insert(t.end(), typename T::value_type());
};

class FieldPacker {
 public:
  explicit FieldPacker(Packer& to) : to_(to) {}
  template <class... T>
  void operator()(T&... all) {
    (one(all), ...);
  }

 private:
  template <class A, class B>
  void one(std::pair<A, B>& p) {
    one(p.first);
    one(p.second);
  }
  template <class A, class B>
  void one(const std::pair<A, B>& p) {
    one(p.first);
    one(p.second);
  }
  template <class T>
  requires std::is_trivially_copyable_v<T>
  void one(std::vector<T>& v) { to_.put(v); }
  template <class T>
  void one(T& v) {
    if constexpr (HasFields<T>) {
      v.fields(*this);
    } else if constexpr (HasCounts<T>) {
      to_.put(v.packed());
    } else if constexpr (std::is_trivially_copyable_v<T>) {
      to_.put(v);
    } else {
      to_.put(v.size());
      for (auto& element : v) one(element);
    }
  }
  Packer& to_;
};

class FieldUnpacker {
 public:
  explicit FieldUnpacker(Unpacker& from) : from_(from) {}
  template <class... T>
  void operator()(T&... all) {
    (one(all), ...);
  }

 private:
  template <class T>
  requires std::is_trivially_copyable_v<T>
  void one(std::vector<T>& v) { v = from_.take_all<T>(); }
  template <class T>
  T taken() {
    T v{};
    one(v);
    return v;
  }
  template <class T>
  void one(T& v) {
    if constexpr (HasFields<T>) {
      v.fields(*this);
    } else if constexpr (HasCounts<T>) {
      v.add_packed(from_.take_all<std::int64_t>());
    } else if constexpr (std::is_trivially_copyable_v<T>) {
      v = from_.take<T>();
    } else if constexpr (IsMap<T>) {
      for (auto n = from_.take<std::size_t>(); n > 0; --n) {
        auto key = taken<typename T::key_type>();
        v.emplace(std::move(key), taken<typename T::mapped_type>());
      }
    } else if constexpr (IsRange<T>) {
      for (auto n = from_.take<std::size_t>(); n > 0; --n) v.insert(v.end(), taken<typename T::value_type>());
    } else {
      one(v.first);
      one(v.second);
    }
  }
  Unpacker& from_;
};

}  // namespace katoptra
