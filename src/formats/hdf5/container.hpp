// HDF5 and netCDF keep global state and are not thread-safe: every call of either goes through one lock.
#pragma once
#include <cstdint>
#include <mutex>
#include <vector>

#include "katoptra/base/error.hpp"

#include "formats/bytes/located.hpp"

namespace katoptra {

// Inside an archive a container has no path to be opened by, and must be held in memory whole.
inline constexpr std::uint64_t kMostContainerInMemory = std::uint64_t{256} << 20;
inline std::vector<std::uint8_t> container_bytes(const Located& file) {
  if (file.bytes->size() > kMostContainerInMemory)
    throw Error(ErrorCode::TooLarge, "is too large to be read inside an archive", file.bytes->name(),
                "unpack it first");
  std::vector<std::uint8_t> memory(file.bytes->size());
  file.bytes->read_exactly(0, memory);
  return memory;
}

// HDF5 prints what it stumbles over, thread by thread, until each is told not to: a library of ours never prints.
void keep_containers_quiet();
inline std::mutex& container_lock() {
  static std::mutex mutex;
  thread_local const bool quiet = (keep_containers_quiet(), true);
  static_cast<void>(quiet);
  return mutex;
}
}  // namespace katoptra
