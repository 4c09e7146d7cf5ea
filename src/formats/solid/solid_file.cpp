#include "katoptra/formats/solid_file.hpp"

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <iterator>
#include <nlohmann/json.hpp>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/version.hpp"

#include "base/text.hpp"
#include "formats/bytes/zip_write.hpp"
#include "formats/picture/image_writers.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

using Bytes = std::vector<std::uint8_t>;

template <class T>
void put(Bytes& out, T value) {
  static_assert(std::endian::native == std::endian::little);
  const auto at = out.size();
  out.resize(at + sizeof(T));
  std::memcpy(out.data() + at, &value, sizeof(T));
}

std::string maker() { return fmt::format("Katoptra {}", KATOPTRA_VERSION); }

// ------------------------------------------------------------------------------------------------------------- STL

// The triangles [first, end) as a file.
Bytes stl_of(const Solid& s, std::size_t first, std::size_t end) {
  Bytes out;
  out.reserve(84 + (end - first) * 50);
  // It must not begin with "solid", which is how the form in text begins.
  const std::string head = maker() + ", millimetres";
  out.assign(head.begin(), head.end());
  out.resize(80, ' ');
  put(out, static_cast<std::uint32_t>(end - first));
  for (std::size_t n = first; n < end; ++n) {
    const auto& t = s.triangles[n];
    const auto &a = s.vertices[t[0]], &b = s.vertices[t[1]], &c = s.vertices[t[2]];
    double u[3], v[3];
    for (std::size_t i = 0; i < 3; ++i) {
      u[i] = static_cast<double>(b[i]) - static_cast<double>(a[i]);
      v[i] = static_cast<double>(c[i]) - static_cast<double>(a[i]);
    }
    const double across[3] = {u[1] * v[2] - u[2] * v[1], u[2] * v[0] - u[0] * v[2], u[0] * v[1] - u[1] * v[0]};
    const double length = std::sqrt(across[0] * across[0] + across[1] * across[1] + across[2] * across[2]);
    for (const double x : across) put(out, static_cast<float>(length > 0 ? x / length : 0));
    for (const std::uint32_t corner : t)
      for (const float x : s.vertices[corner]) put(out, x);
    put(out, std::uint16_t{0});
  }
  return out;
}
Bytes stl(const Solid& s, const SolidWriteOptions&) { return stl_of(s, 0, s.dry()); }

fs::path water_beside(const fs::path& path) {
  return path.parent_path() / (path.stem().string() + "-water" + path.extension().string());
}

// ------------------------------------------------------------------------------------------------------------- OBJ

Bytes obj(const Solid& s, const SolidWriteOptions&) {
  std::string out = fmt::format("# {}: {}, millimetres, 1:{:.6g}\n", maker(), s.name, s.scale);
  auto to = std::back_inserter(out);
  for (const auto& v : s.vertices) fmt::format_to(to, "v {} {} {}\n", v[0], v[1], v[2]);
  fmt::format_to(to, "g ground\n");
  for (std::size_t i = 0; i < s.triangles.size(); ++i) {
    if (i == s.ground) fmt::format_to(to, "g base\n");
    if (i == s.dry()) fmt::format_to(to, "g water\n");
    const auto& t = s.triangles[i];
    fmt::format_to(to, "f {} {} {}\n", t[0] + 1, t[1] + 1, t[2] + 1);
  }
  return {out.begin(), out.end()};
}

// ------------------------------------------------------------------------------------------------------------- 3MF

// An object holds the corners that its triangles use, in their order.
void add_object(std::string& out, const Solid& s, int id, std::size_t first, std::size_t end, const std::string& name) {
  auto to = std::back_inserter(out);
  fmt::format_to(to, "<object id=\"{}\" name=\"{}\" type=\"model\">\n<mesh>\n<vertices>\n", id, xml_text(name));
  constexpr std::uint32_t kUnused = 0xFFFFFFFF;
  std::vector<std::uint32_t> number(s.vertices.size(), kUnused);
  for (std::size_t i = first; i < end; ++i)
    for (const std::uint32_t v : s.triangles[i]) number[v] = 0;
  std::uint32_t next = 0;
  for (std::size_t i = 0; i < number.size(); ++i) {
    if (number[i] == kUnused) continue;
    number[i] = next++;
    const auto& v = s.vertices[i];
    fmt::format_to(to, "<vertex x=\"{}\" y=\"{}\" z=\"{}\"/>\n", v[0], v[1], v[2]);
  }
  fmt::format_to(to, "</vertices>\n<triangles>\n");
  for (std::size_t i = first; i < end; ++i) {
    const auto& t = s.triangles[i];
    fmt::format_to(to, "<triangle v1=\"{}\" v2=\"{}\" v3=\"{}\"/>\n", number[t[0]], number[t[1]], number[t[2]]);
  }
  out += "</triangles>\n</mesh>\n</object>\n";
}

std::string model_3mf(const Solid& s) {
  std::string out = fmt::format(
      "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<model unit=\"millimeter\" xml:lang=\"en-US\" "
      "xmlns=\"http://schemas.microsoft.com/3dmanufacturing/core/2015/02\">\n<metadata name=\"Title\">{}</metadata>\n"
      "<metadata name=\"Application\">{}</metadata>\n<resources>\n",
      xml_text(s.name), maker());
  const bool water = s.water > 0;
  add_object(out, s, 1, 0, s.dry(), "ground");
  if (water) add_object(out, s, 2, s.dry(), s.triangles.size(), "water");
  // Parts of one thing: a program that prints moves them together.
  if (water)
    out +=
        "<object id=\"3\" type=\"model\">\n<components>\n<component objectid=\"1\"/>\n<component "
        "objectid=\"2\"/>\n</components>\n</object>\n";
  return out + fmt::format("</resources>\n<build>\n<item objectid=\"{}\"/>\n</build>\n</model>\n", water ? 3 : 1);
}

std::uint64_t write_3mf(const Solid& s, const fs::path& path, bool overwrite) {
  const auto sink = create_file(path, {.overwrite = overwrite});
  ZipWriter zip(*sink, path.string());
  zip.add("[Content_Types].xml",
          "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<Types "
          "xmlns=\"http://schemas.openxmlformats.org/package/2006/content-types\"><Default Extension=\"rels\" "
          "ContentType=\"application/vnd.openxmlformats-package.relationships+xml\"/><Default Extension=\"model\" "
          "ContentType=\"application/vnd.ms-package.3dmanufacturing-3dmodel+xml\"/></Types>\n");
  zip.add("_rels/.rels",
          "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<Relationships "
          "xmlns=\"http://schemas.openxmlformats.org/package/2006/relationships\"><Relationship "
          "Target=\"/3D/3dmodel.model\" Id=\"rel0\" "
          "Type=\"http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel\"/></Relationships>\n");
  zip.add("3D/3dmodel.model", model_3mf(s));
  const std::uint64_t bytes = zip.finish();
  sink->commit();
  return bytes;
}

// ------------------------------------------------------------------------------------------------------------- glTF

class Gltf {
 public:
  Gltf(const Solid& s, const PlacedImage* picture) : solid_(s), picture_(picture) {}

  Bytes bytes() {
    j_["asset"] = {{"version", "2.0"}, {"generator", maker()}};
    j_["scene"] = 0;
    j_["scenes"] = {{{"nodes", {0}}}};
    j_["nodes"] = {{{"mesh", 0}, {"name", solid_.name}}};
    positions();
    places();
    const std::size_t all = solid_.triangles.size();
    Json parts = Json::array();
    auto part = [&](std::size_t first, std::size_t end, Json attributes, int material) {
      if (first == end) return;
      corners(first, end);
      parts.push_back({{"attributes", attributes}, {"indices", j_["accessors"].size() - 1}, {"material", material}});
    };
    part(0, solid_.ground, {{"POSITION", 0}, {"TEXCOORD_0", 1}}, 0);
    part(solid_.ground, solid_.dry(), {{"POSITION", 0}}, 1);
    part(solid_.dry(), all, {{"POSITION", 0}}, 2);
    materials();
    j_["meshes"] = {{{"primitives", parts}}};
    j_["buffers"] = {{{"byteLength", data_.size()}}};
    std::string text = j_.dump();
    text.resize((text.size() + 3) / 4 * 4, ' ');
    data_.resize((data_.size() + 3) / 4 * 4, 0);
    Bytes out;
    put(out, std::uint32_t{0x46546C67});
    put(out, std::uint32_t{2});
    put(out, static_cast<std::uint32_t>(12 + 8 + text.size() + 8 + data_.size()));
    put(out, static_cast<std::uint32_t>(text.size()));
    put(out, std::uint32_t{0x4E4F534A});
    out.insert(out.end(), text.begin(), text.end());
    put(out, static_cast<std::uint32_t>(data_.size()));
    put(out, std::uint32_t{0x004E4942});
    out.insert(out.end(), data_.begin(), data_.end());
    return out;
  }

 private:
  using Json = nlohmann::ordered_json;

  // What was put into the data since `from`, as a view and something to read it by.
  void view(std::size_t from, int target, const char* type, int component, std::size_t count,
            Json more = Json::object()) {
    j_["bufferViews"].push_back(
        {{"buffer", 0}, {"byteOffset", from}, {"byteLength", data_.size() - from}, {"target", target}});
    Json a = {
        {"bufferView", j_["bufferViews"].size() - 1}, {"componentType", component}, {"count", count}, {"type", type}};
    a.update(more);
    j_["accessors"].push_back(std::move(a));
  }
  void positions() {
    const std::size_t from = data_.size();
    std::array<float, 3> low{1e30f, 1e30f, 1e30f}, high{-1e30f, -1e30f, -1e30f};
    for (const auto& v : solid_.vertices) {
      const std::array<float, 3> p{v[0] / 1000, v[2] / 1000, -v[1] / 1000};
      for (std::size_t i = 0; i < 3; ++i) {
        low[i] = std::min(low[i], p[i]);
        high[i] = std::max(high[i], p[i]);
        put(data_, p[i]);
      }
    }
    view(from, 34962, "VEC3", 5126, solid_.vertices.size(), {{"min", low}, {"max", high}});
  }
  void places() {
    const std::size_t from = data_.size();
    for (const auto& p : solid_.on_map)
      for (const float x : p) put(data_, x);
    view(from, 34962, "VEC2", 5126, solid_.on_map.size());
  }
  void corners(std::size_t first, std::size_t end) {
    const std::size_t from = data_.size();
    for (std::size_t i = first; i < end; ++i)
      for (const std::uint32_t v : solid_.triangles[i]) put(data_, v);
    view(from, 34963, "SCALAR", 5125, 3 * (end - first));
  }
  void materials() {
    auto plain = [](const char* name, std::array<double, 4> colour) {
      return Json{
          {"name", name},
          {"pbrMetallicRoughness", {{"baseColorFactor", colour}, {"metallicFactor", 0}, {"roughnessFactor", 0.9}}}};
    };
    Json ground = plain("ground", picture_ ? std::array{1.0, 1.0, 1.0, 1.0} : std::array{0.62, 0.66, 0.55, 1.0});
    if (picture_) {
      const Frame& f = picture_->frame;
      const Bytes png = png_bytes(picture_->rows(0, f.rows()), static_cast<int>(f.cols()));
      const std::size_t from = data_.size();
      data_.insert(data_.end(), png.begin(), png.end());
      j_["bufferViews"].push_back({{"buffer", 0}, {"byteOffset", from}, {"byteLength", png.size()}});
      j_["images"] = {{{"bufferView", j_["bufferViews"].size() - 1}, {"mimeType", "image/png"}}};
      j_["samplers"] = {{{"magFilter", 9729}, {"minFilter", 9987}, {"wrapS", 33071}, {"wrapT", 33071}}};
      j_["textures"] = {{{"source", 0}, {"sampler", 0}}};
      ground["pbrMetallicRoughness"]["baseColorTexture"] = {{"index", 0}};
    }
    Json water = plain("water", {0.20, 0.50, 0.72, 0.55});
    water["alphaMode"] = "BLEND";
    water["pbrMetallicRoughness"]["roughnessFactor"] = 0.2;
    j_["materials"] = {ground, plain("base", {0.75, 0.75, 0.73, 1.0})};
    if (solid_.water > 0) j_["materials"].push_back(water);
  }

  const Solid& solid_;
  const PlacedImage* picture_;
  Json j_;
  Bytes data_;
};

Bytes glb(const Solid& s, const SolidWriteOptions& o) { return Gltf(s, o.picture).bytes(); }

struct SolidFormat {
  const char* ending;
  const char* name;
  Bytes (*bytes)(const Solid&, const SolidWriteOptions&);  // none: 3MF
};
constexpr SolidFormat kSolidFormats[] = {
    {".stl", "STL", stl}, {".obj", "OBJ", obj}, {".glb", "glTF", glb}, {".3mf", "3MF", nullptr}};

const SolidFormat* solid_format_named(const fs::path& name) {
  const std::string ending = lower_extension(name);
  const auto f = std::find_if(std::begin(kSolidFormats), std::end(kSolidFormats), [&](auto& x) { return ending == x.ending; });
  return f == std::end(kSolidFormats) ? nullptr : f;
}

}  // namespace

bool solid_named(const fs::path& name) { return solid_format_named(name) != nullptr; }

SolidReport write_solid(const Solid& solid, const fs::path& path, const SolidWriteOptions& options) {
  const SolidFormat* f = solid_format_named(path);
  if (!f)
    throw Error(ErrorCode::Unsupported, fmt::format("solids are not written as '{}'", lower_extension(path)),
                path.string(), "give a name that ends in .stl, .3mf, .obj or .glb");
  if (!f->bytes) return {write_3mf(solid, path, options.overwrite), f->name};
  const Bytes bytes = f->bytes(solid, options);
  SolidReport r{bytes.size(), f->name};
  if (f->bytes != stl || solid.water == 0) {
    write_file(path, bytes, {.overwrite = options.overwrite});
    return r;
  }
  // Both or none.
  const Bytes water = stl_of(solid, solid.dry(), solid.triangles.size());
  auto ground_file = create_file(path, {.overwrite = options.overwrite}),
       water_file = create_file(water_beside(path), {.overwrite = options.overwrite});
  ground_file->write_at(0, bytes);
  water_file->write_at(0, water);
  ground_file->commit();
  water_file->commit();
  r.beside.push_back(water_beside(path));
  return r;
}

}  // namespace katoptra
