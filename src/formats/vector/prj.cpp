#include "prj.hpp"

#include "katoptra/base/error.hpp"
#include "katoptra/formats/bytes.hpp"

namespace katoptra {
namespace fs = std::filesystem;

LayerReport write_prj(const fs::path& beside, const Crs& crs, bool overwrite) {
  const fs::path prj = fs::path(beside).replace_extension(".prj");
  if (!crs) {
    std::error_code ec;
    if (overwrite) fs::remove(prj, ec);  // that of the file before would be taken for this one's
    return {};
  }
  write_text_file(prj, crs.file_wkt() + "\n", {.overwrite = true});
  return {.beside = {prj}, .notes = {}};
}

Crs read_prj(const fs::path& beside, const Crs& otherwise) {
  std::error_code ec;
  for (const char* ending : {".prj", ".PRJ"})
    if (const fs::path prj = fs::path(beside).replace_extension(ending); fs::is_regular_file(prj, ec))
      return Crs::parse(read_text_file(prj, 1 << 20));
  return otherwise;
}

}  // namespace katoptra
