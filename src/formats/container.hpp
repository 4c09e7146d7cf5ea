// HDF5 and netCDF keep global state and are not thread-safe: every call of either goes through one lock.
#pragma once
#include <mutex>

namespace katoptra {
inline std::mutex& container_lock() {
  static std::mutex mutex;
  return mutex;
}
}  // namespace katoptra
