// A file without a name for what does not fit into memory, and whole reads and writes of open files.
#pragma once
#include <cerrno>
#include <cstdint>
#include <cstdlib>
#include <cstring>
#include <fcntl.h>
#include <fmt/format.h>
#include <span>
#include <string>
#include <sys/statvfs.h>
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

inline std::string temporary_folder() {
  const char* folder = std::getenv("TMPDIR");
  return folder && *folder ? folder : "/tmp";
}

// Io where temporary files have less room than that: a program ends when the memory of a file finds none.
inline void require_room(std::uint64_t bytes, const std::string& wanted_for) {
  struct statvfs s = {};
  if (::statvfs(temporary_folder().c_str(), &s) != 0) return;  // whoever opens a file there says why
  const std::uint64_t free = std::uint64_t{s.f_bavail} * s.f_frsize;
  if (bytes > free)
    throw Error(ErrorCode::Io,
                fmt::format("takes {} MiB of temporary files, and {} has {} left", (bytes >> 20) + 1,
                            temporary_folder(), free >> 20),
                wanted_for, "set TMPDIR to a folder with more room");
}

// A temporary file in TMPDIR (else /tmp), and its name. `wanted_for`: the file in the Error.
inline int open_temporary_file(const std::string& wanted_for, std::string& path) {
  path = temporary_folder() + "/katoptra-XXXXXX";
  const int fd = ::mkostemp(path.data(), O_CLOEXEC);
  if (fd < 0)
    throw Error(ErrorCode::Io, fmt::format("no temporary file can be made for it: {}", std::strerror(errno)),
                wanted_for, "set TMPDIR to a folder that can be written");
  return fd;
}

// One that goes away when it is closed.
inline int open_unnamed_file(const std::string& wanted_for) {
  std::string path;
  const int fd = open_temporary_file(wanted_for, path);
  ::unlink(path.c_str());
  return fd;
}

}  // namespace katoptra
