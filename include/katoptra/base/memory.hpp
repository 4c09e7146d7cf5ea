// Memory that comes and goes by the block: what a thread gives back waits for its next request of about that size, up
// to 20 MiB a thread, instead of being returned to the system, cleared there and faulted in anew.
//
//   RawBytes tile(256 * 256 * 4);     // not set to anything
//   RawBytes rows(1000, 0);           // zeros
#pragma once
#include <cstddef>
#include <cstdint>
#include <new>
#include <utility>
#include <vector>

namespace katoptra {

// At least that many bytes, aligned as operator new does it; give_memory takes the same number. std::bad_alloc.
[[nodiscard]] void* take_memory(std::size_t bytes);
void give_memory(void* memory, std::size_t bytes) noexcept;

// For containers: such memory, and elements that are not set unless they are given a value.
template <class T>
struct RecyclingAllocator {
  using value_type = T;
  RecyclingAllocator() = default;
  template <class U>
  explicit RecyclingAllocator(const RecyclingAllocator<U>&) noexcept {}

  [[nodiscard]] T* allocate(std::size_t n) { return static_cast<T*>(take_memory(n * sizeof(T))); }
  void deallocate(T* p, std::size_t n) noexcept { give_memory(p, n * sizeof(T)); }
  template <class U>
  void construct(U* p) noexcept {
    ::new (static_cast<void*>(p)) U;
  }
  template <class U, class... Args>
  void construct(U* p, Args&&... args) {
    ::new (static_cast<void*>(p)) U(std::forward<Args>(args)...);
  }
  template <class U>
  bool operator==(const RecyclingAllocator<U>&) const noexcept {
    return true;
  }
};

using RawBytes = std::vector<std::uint8_t, RecyclingAllocator<std::uint8_t>>;

}  // namespace katoptra
