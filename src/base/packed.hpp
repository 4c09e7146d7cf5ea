// Values as bytes on their way to a process that runs the same program on the same kind of machine.
#pragma once
#include <cstdint>
#include <cstring>
#include <span>
#include <type_traits>
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

}  // namespace katoptra
