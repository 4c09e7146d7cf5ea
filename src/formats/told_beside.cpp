#include "told_beside.hpp"

#include <nlohmann/json.hpp>

namespace katoptra {
namespace {

using Json = nlohmann::ordered_json;

std::string text_of(const Json& j) { return j.dump(2) + "\n"; }
std::string crs_text(const Crs& crs) { return crs.epsg() ? crs.code() : crs.wkt(); }

void put_place(Json& j, const Frame& f) {
  j["crs"] = f.crs() ? Json(crs_text(f.crs())) : Json(nullptr);
  j["origin"] = {f.west(), f.north()};
  j["cell"] = {f.cell().x, f.cell().y};
}

}  // namespace

std::string references_beside(const Quantity& q, const std::string& date, const std::string& survey) {
  Json j;
  if (q.kind != QuantityKind::Height) j["quantity"] = name_of(q.kind);
  if (q.kind == QuantityKind::Height && q.heights.known()) j["heights"] = q.heights.text();
  if (q.kind != QuantityKind::Height || q.unit_known) j["unit"] = unit_name(q);
  if (!date.empty()) j["date"] = date;
  if (!survey.empty()) j["survey"] = survey;
  return j.empty() ? "" : text_of(j);
}

std::string references_beside(const PointInfo& info) {
  Json j;
  if (info.crs) j["crs"] = crs_text(info.crs);
  if (info.quantity.heights.known()) j["heights"] = info.quantity.heights.text();
  if (info.quantity.unit_known) j["unit"] = symbol(info.quantity.unit);
  if (info.sources.size() == 1 && !info.sources[0].date_guessed) j["date"] = info.sources[0].date;
  return text_of(j);
}

std::string scale_beside(const GridInfo& info, double zero, double step) {
  Json j;
  j["zero"] = zero;
  j["step"] = step;
  j["unit"] = unit_name(info.quantity);
  j["heights"] = info.quantity.heights.text();
  put_place(j, info.frame);
  j["void"] = 0;
  return text_of(j);
}

std::string scale_beside(const Quantity& quantity, const HeightMapReport& r, const HeightMapOptions& o,
                         const HeightScale& scale) {
  const Frame& f = r.frame;
  Json j;
  j["samples"] = {f.cols(), f.rows()};
  j["bits"] = o.depth;
  if (o.depth == 32)
    j["kind"] = "IEEE float, little endian, the height itself";
  else
    j["kind"] = "unsigned, little endian in .raw; height = low + (sample - first) * (high - low) / (last - first)";
  j["low"] = r.low;
  j["high"] = r.high;
  if (o.depth != 32) {
    j["first"] = scale.first;
    j["last"] = scale.last;
  }
  if (o.sea) j["sea"] = *o.sea;
  j["unit"] = unit_name(quantity);
  j["heights"] = quantity.heights.text();
  j["sample_m"] = r.sample.metres();
  j["size_m"] = {r.sample.metres() * static_cast<double>(f.cols()), r.sample.metres() * static_cast<double>(f.rows())};
  put_place(j, f);
  return text_of(j);
}

}  // namespace katoptra
