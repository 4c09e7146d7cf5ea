// Open files of the system: reading and writing at a place, whole or with an Error, and a file without a name.
#pragma once
#include <cerrno>
#include <cstdint>
#include <cstdlib>
#include <cstring>
#include <fcntl.h>
#include <fmt/format.h>
#include <span>
#include <string>
#include <unistd.h>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/bytes.hpp"

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

// A temporary file in TMPDIR (else /tmp) that goes away when it is closed. `wanted_for`: the file in the Error.
inline int open_unnamed_file(const std::string& wanted_for) {
  const char* folder = std::getenv("TMPDIR");
  std::string path = std::string(folder && *folder ? folder : "/tmp") + "/katoptra-XXXXXX";
  const int fd = ::mkostemp(path.data(), O_CLOEXEC);
  if (fd < 0)
    throw Error(ErrorCode::Io, fmt::format("no temporary file can be made for it: {}", std::strerror(errno)),
                wanted_for, "set TMPDIR to a folder that can be written");
  ::unlink(path.c_str());
  return fd;
}

// The bytes of an open file; closes it.
class DescriptorSource : public ByteSource {
 public:
  DescriptorSource(std::string name, int fd, std::uint64_t size) : size_(size), name_(std::move(name)), fd_(fd) {}
  ~DescriptorSource() override { ::close(fd_); }
  DescriptorSource(const DescriptorSource&) = delete;
  DescriptorSource& operator=(const DescriptorSource&) = delete;
  std::uint64_t size() const override { return size_; }
  const std::string& name() const override { return name_; }
  void will_need(std::uint64_t offset, std::uint64_t bytes) const override {
    ::posix_fadvise(fd_, static_cast<off_t>(offset), static_cast<off_t>(bytes), POSIX_FADV_WILLNEED);
  }
  std::size_t read_at(std::uint64_t offset, std::span<std::uint8_t> out) const override {
    return read_descriptor(fd_, offset, out, name_);
  }

 protected:
  int descriptor() const { return fd_; }
  std::uint64_t size_;

 private:
  std::string name_;
  int fd_;
};

}  // namespace katoptra
