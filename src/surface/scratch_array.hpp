// Arrays of zeros in memory, or in the memory of a temporary file of which what has been passed is let go of.
#pragma once
#include <algorithm>
#include <cstdint>
#include <cstdlib>
#include <new>
#include <span>
#include <sys/mman.h>

#include "base/scratch.hpp"

namespace katoptra {

enum class HeldIn : std::uint8_t { Memory, File };

template <class T>
class ScratchArray {
 public:
  ScratchArray(std::size_t n, HeldIn where) : n_(n) {
    if (where == HeldIn::Memory) {
      // Pages that nobody touches take no memory.
      data_ = static_cast<T*>(std::calloc(n, sizeof(T)));
      if (!data_) throw std::bad_alloc();
      return;
    }
    fd_ = open_unnamed_file(kName);
    const bool grown = ::ftruncate(fd_, static_cast<off_t>(n * sizeof(T))) == 0;
    void* at = grown ? ::mmap(nullptr, n * sizeof(T), PROT_READ | PROT_WRITE, MAP_SHARED, fd_, 0) : MAP_FAILED;
    if (at == MAP_FAILED) {
      ::close(fd_);
      throw Error(ErrorCode::Io, "no temporary file of that size can be made", kName, "make room in TMPDIR");
    }
    data_ = static_cast<T*>(at);
  }
  ~ScratchArray() {
    if (fd_ < 0) {
      std::free(data_);
    } else {
      close_memory();
      ::close(fd_);
    }
  }
  ScratchArray(const ScratchArray&) = delete;
  ScratchArray& operator=(const ScratchArray&) = delete;

  T* data() const { return data_; }
  // Of one in a file: from now on it is only read, by `read`.
  void close_memory() {
    if (data_) ::munmap(data_, n_ * sizeof(T));
    data_ = nullptr;
  }
  void read(std::size_t from, std::span<T> out) const {
    read_descriptor(fd_, from * sizeof(T), std::span(reinterpret_cast<std::uint8_t*>(out.data()), out.size_bytes()),
                    kName);
  }
  // Pages that lie within [from, end) leave memory; the file keeps them.
  void let_go(std::size_t from, std::size_t end) const {
    if (fd_ < 0) return;
    constexpr std::size_t kPage = 4096;
    const std::size_t first = (from * sizeof(T) + kPage - 1) / kPage * kPage, last = end * sizeof(T) / kPage * kPage;
    if (first < last) ::madvise(reinterpret_cast<char*>(data_) + first, last - first, MADV_DONTNEED);
  }

 private:
  static constexpr const char* kName = "a void";
  std::size_t n_;
  int fd_ = -1;
  T* data_ = nullptr;
};

// Calls body(row) for `rows` rows, down or up, and let_go(first, end) for bands of those that lie behind, but for as
// many as the next ones look at; in the end for all that is left.
template <class Body, class LetGo>
void pass_rows(std::int64_t rows, std::int64_t band, bool down, const Body& body, const LetGo& let_go,
               std::int64_t looked_at = 4) {
  for (std::int64_t i = 0; i < rows; ++i) {
    body(down ? i : rows - 1 - i);
    if ((i + 1) % band != 0 && i + 1 < rows) continue;
    const std::int64_t first = std::max<std::int64_t>(0, i + 1 - 2 * band - looked_at),
                       end = i + 1 < rows ? i - looked_at : rows;
    if (first >= end) continue;
    if (down)
      let_go(first, end);
    else
      let_go(rows - end, rows - first);
  }
}

}  // namespace katoptra
