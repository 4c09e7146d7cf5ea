// Reading and writing at a place of an open file, whole or with an Error.
#pragma once
#include <cerrno>
#include <cstdint>
#include <cstring>
#include <fmt/format.h>
#include <span>
#include <string>
#include <unistd.h>

#include "katoptra/base/error.hpp"

namespace katoptra {

// Up to out.size() bytes; fewer only at the end of the file.
inline std::size_t read_descriptor(int fd, std::uint64_t offset, std::span<std::uint8_t> out, const std::string& name) {
  std::size_t done = 0;
  while (done < out.size()) {
    const ssize_t n = ::pread(fd, out.data() + done, out.size() - done, static_cast<off_t>(offset + done));
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) throw Error(ErrorCode::Io, fmt::format("cannot be read: {}", std::strerror(errno)), name);
    if (n == 0) break;
    done += static_cast<std::size_t>(n);
  }
  return done;
}

inline void write_descriptor(int fd, std::uint64_t offset, std::span<const std::uint8_t> bytes,
                             const std::string& name) {
  std::size_t done = 0;
  while (done < bytes.size()) {
    const ssize_t n = ::pwrite(fd, bytes.data() + done, bytes.size() - done, static_cast<off_t>(offset + done));
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0)
      throw Error(ErrorCode::Io, fmt::format("cannot be written: {}", std::strerror(errno)), name,
                  errno == ENOSPC ? "make room on the disk" : "check the disk");
    done += static_cast<std::size_t>(n);
  }
}

}  // namespace katoptra
