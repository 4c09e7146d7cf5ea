// Runs every kept input through its reader: FOLDER/TARGET/FILE. What once was found stays mended.
#include <cstdio>
#include <filesystem>
#include <fstream>
#include <iterator>
#include <vector>

#include "katoptra/formats/format.hpp"

#include "targets.hpp"

int main(int argc, char** argv) {
  namespace fs = std::filesystem;
  if (argc != 2) {
    std::fputs("usage: fuzz_replay FOLDER\n", stderr);
    return 2;
  }
  std::size_t count = 0;
  for (const auto& [name, target] : katoptra::fuzz::targets()) {
    const fs::path folder = fs::path(argv[1]) / name;
    if (!fs::is_directory(folder)) {
      std::printf("%s: nothing is kept for this target\n", folder.c_str());
      return 1;
    }
    for (const auto& entry : fs::directory_iterator(folder)) {
      std::ifstream in(entry.path(), std::ios::binary);
      const std::vector<char> bytes((std::istreambuf_iterator<char>(in)), {});
      std::printf("%s\n", entry.path().c_str());
      std::fflush(stdout);
      target({reinterpret_cast<const std::uint8_t*>(bytes.data()), bytes.size()});
      ++count;
    }
  }
  for (const katoptra::Format& f : katoptra::formats())
    if (const auto t = katoptra::fuzz::targets().find(f.key); t != katoptra::fuzz::targets().end()) {
      t->second({reinterpret_cast<const std::uint8_t*>(f.damaged.bytes.data()), f.damaged.bytes.size()});
      ++count;
    }
  std::printf("%zu inputs\n", count);
  return count > 0 ? 0 : 1;
}
