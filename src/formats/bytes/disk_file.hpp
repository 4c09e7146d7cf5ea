// Files of the disk that are read, of which there may be more than the system lets a process have open at once: a
// mosaic has thousands of tiles, and 1,024 is a usual limit. The descriptors of those that were not read for the
// longest time are closed; a file is opened again when it is read again, and must then be the one that it was.
#pragma once
#include <filesystem>
#include <list>
#include <string>

#include "descriptor.hpp"

namespace katoptra {

class DiskFile {
 public:
  // Io when it cannot be opened, or is a folder.
  explicit DiskFile(const std::filesystem::path& path);
  ~DiskFile();
  DiskFile(const DiskFile&) = delete;
  DiskFile& operator=(const DiskFile&) = delete;

  const std::string& name() const { return name_; }
  const FileState& state() const { return state_; }

  // Its descriptor, open while this lives. From any thread. Io when the file cannot be opened again, BadFile when
  // its size or time is another.
  class Descriptor {
   public:
    explicit Descriptor(const DiskFile& file) : file_(file), fd_(file.acquire()) {}
    ~Descriptor() { file_.release(); }
    Descriptor(const Descriptor&) = delete;
    Descriptor& operator=(const Descriptor&) = delete;
    operator int() const { return fd_; }

   private:
    const DiskFile& file_;
    int fd_;
  };

  // How many may be open; half of what the system allows, so that others have room, unless it is set (for tests).
  // What it was is given back.
  static std::size_t set_most_open(std::size_t files);
  static std::size_t open_now();

 private:
  int acquire() const;
  void release() const;
  int opened() const;
  int used() const;
  int given_up() const;
  static void close_idle(std::size_t most);

  std::string name_;
  std::filesystem::path absolute_;
  FileState state_;
  // Under the lock of all of them.
  mutable int fd_ = -1, users_ = 0;
  // One node: among the idle ones of all files while this is open and nobody uses it, else here.
  mutable std::list<const DiskFile*> node_{this};
  std::list<const DiskFile*>::const_iterator place_ = node_.begin();
};

}  // namespace katoptra
