#include "prj.hpp"

#include "katoptra/base/error.hpp"
#include "katoptra/formats/bytes.hpp"

namespace katoptra {
namespace fs = std::filesystem;

namespace {

std::string text_for(const Crs& crs) { return crs.file_wkt() + "\n"; }

}  // namespace

bool tells_crs(const fs::path& prj, const Crs& crs) {
  std::error_code ec;
  if (!crs || !fs::is_regular_file(prj, ec)) return false;
  try {
    return Crs::parse(read_text_file(prj, 1 << 20)).same_place(crs);
  } catch (const Error&) {
    return false;
  }
}

void require_prj(const fs::path& beside, const Crs& crs, bool overwrite) {
  const fs::path prj = fs::path(beside).replace_extension(".prj");
  std::error_code ec;
  if (overwrite || !fs::exists(prj, ec)) return;
  if (tells_crs(prj, crs)) return;
  throw Error(ErrorCode::Io, "exists already", prj.string(), "choose another name or say --overwrite");
}

LayerReport write_prj(const fs::path& beside, const Crs& crs) {
  if (!crs) return {};
  const fs::path prj = fs::path(beside).replace_extension(".prj");
  if (!tells_crs(prj, crs)) write_text_file(prj, text_for(crs), {.overwrite = true});
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
