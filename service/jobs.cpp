#include "jobs.hpp"

#include <chrono>
#include <fmt/chrono.h>
#include <fmt/format.h>
#include <random>
#include <unistd.h>

#include "katoptra/base/error.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/catalogue/find.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/surface/fill.hpp"
#include "katoptra/surface/mosaic.hpp"
#include "katoptra/surface/reproject.hpp"

#include "catalogue/stac_json.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

constexpr std::size_t kMostJobs = 1000;
constexpr double kMostCells = 1e8;

std::string now() { return fmt::format("{:%Y-%m-%dT%H:%M:%S}Z", fmt::gmtime(std::time(nullptr))); }

[[noreturn]] void wrong_order(const std::string& what) {
  throw Error(ErrorCode::BadArgument, what, "inputs", "see /processes/extract");
}

Area area_of(const json& inputs) {
  const json& a = member(inputs, "area");
  if (a.is_array() && a.size() == 4) {
    for (const json& v : a)
      if (!v.is_number()) wrong_order("'area' has something else than numbers");
    return Area::box({a[0].get<double>(), a[1].get<double>(), a[2].get<double>(), a[3].get<double>()});
  }
  const MultiPolygon shape = polygons_of(a.contains("value") ? a["value"] : a, "inputs");
  if (shape.empty()) wrong_order("'area' is neither a box nor a polygon");
  return {shape, Crs::wgs84()};
}

std::string ending_of(const json& inputs) {
  const std::string f = word(inputs, "format").empty() ? "tif" : word(inputs, "format");
  for (const char* known : {"tif", "asc", "nc", "xyz", "bil"})
    if (f == known) return "." + f;
  wrong_order(fmt::format("'format' is {}, and may be tif, asc, nc, xyz or bil", f));
}

}  // namespace

Jobs::Jobs(const Catalogue& catalogue, int wait_seconds) : catalogue_(catalogue), wait_seconds_(wait_seconds) {
  std::string name = (fs::temp_directory_path() / "katoptra-jobs-XXXXXX").string();
  if (!::mkdtemp(name.data()))
    throw Error(ErrorCode::Io, "no folder can be made for what jobs leave", fs::temp_directory_path().string(),
                "set TMPDIR to a folder that can be written");
  folder_ = name;
  worker_ = std::thread([this] { work(); });
}

Jobs::~Jobs() {
  {
    std::lock_guard lock(mutex_);
    ending_ = true;
    for (auto& [id, job] : jobs_)
      if (job.progress) job.progress->cancel();
  }
  more_.notify_all();
  worker_.join();
  std::error_code ec;
  fs::remove_all(folder_, ec);
}

ordered_json Jobs::description() {
  auto input = [](const char* title, ordered_json schema, int at_least) {
    return ordered_json{{"title", title}, {"schema", std::move(schema)}, {"minOccurs", at_least}, {"maxOccurs", 1}};
  };
  ordered_json p = {{"id", "extract"},
                    {"title", "A surface of an area"},
                    {"description", "Joins the tiles that cover an area, closes voids if wanted, cuts and converts"},
                    {"version", "1.0.0"},
                    {"jobControlOptions", {"async-execute", "dismiss"}},
                    {"outputTransmission", {"reference"}}};
  p["inputs"]["area"] = input("polygon, or west, south, east, north, in degrees",
                              {{"oneOf", ordered_json::array({{{"type", "array"}}, {{"type", "object"}}})}}, 1);
  p["inputs"]["cell"] = input("edge of a cell in metres", {{"type", "number"}}, 0);
  p["inputs"]["crs"] = input("EPSG code, or utm", {{"type", "string"}}, 0);
  p["inputs"]["survey"] = input("a part of the survey's name", {{"type", "string"}}, 0);
  p["inputs"]["fill"] = input("close voids", {{"type", "boolean"}}, 0);
  p["inputs"]["format"] =
      input("format of the result", {{"type", "string"}, {"enum", {"tif", "asc", "nc", "xyz", "bil"}}}, 0);
  p["outputs"]["surface"] = {{"title", "the surface"},
                             {"schema", {{"type", "string"}, {"contentMediaType", "image/tiff"}}}};
  return p;
}

std::string Jobs::submit(const json& request) {
  const json& inputs = member(request, "inputs");
  if (!inputs.is_object()) wrong_order("the request has no 'inputs'");
  area_of(inputs);
  ending_of(inputs);
  if (inputs.contains("cell") && !(number(inputs, "cell") > 0)) wrong_order("'cell' is no length in metres");
  if (const std::string crs = word(inputs, "crs"); !crs.empty() && crs != "utm") Crs::parse(crs);
  thread_local std::mt19937_64 random(std::random_device{}());
  std::lock_guard lock(mutex_);
  if (jobs_.size() >= kMostJobs) throw Error(ErrorCode::TooLarge, "there are too many jobs", "jobs", "dismiss some");
  Job job;
  job.id = fmt::format("{:016x}", random());
  job.created = job.updated = now();
  job.message = "waits for its turn";
  job.inputs = inputs;
  job.progress = std::make_shared<Progress>();
  queue_.push_back(job.id);
  const std::string id = job.id;
  jobs_.emplace(id, std::move(job));
  more_.notify_all();
  return id;
}

ordered_json Jobs::told(const Job& j) const {
  ordered_json o = {{"jobID", j.id},        {"processID", "extract"}, {"type", "process"},    {"status", j.state},
                    {"message", j.message}, {"progress", j.percent},  {"created", j.created}, {"updated", j.updated}};
  if (!j.started.empty()) o["started"] = j.started;
  if (!j.finished.empty()) o["finished"] = j.finished;
  return o;
}

std::optional<ordered_json> Jobs::status(const std::string& id) const {
  std::lock_guard lock(mutex_);
  const auto f = jobs_.find(id);
  return f == jobs_.end() ? std::nullopt : std::optional(told(f->second));
}

ordered_json Jobs::all() const {
  std::lock_guard lock(mutex_);
  ordered_json list = ordered_json::array();
  for (const auto& [id, job] : jobs_) list.push_back(told(job));
  return list;
}

bool Jobs::dismiss(const std::string& id) {
  std::lock_guard lock(mutex_);
  const auto f = jobs_.find(id);
  if (f == jobs_.end()) return false;
  Job& j = f->second;
  j.progress->cancel();
  queue_.remove(id);
  if (j.state != "running") change(j, "dismissed", "was called off", j.percent);
  return true;
}

fs::path Jobs::result(const std::string& id) const {
  std::lock_guard lock(mutex_);
  const auto f = jobs_.find(id);
  return f != jobs_.end() && f->second.state == "successful" ? f->second.file : fs::path();
}

void Jobs::change(Job& j, const std::string& state, const std::string& message, int percent) {
  j.state = state;
  j.message = message;
  j.percent = percent;
  j.updated = now();
  if (state == "running" && j.started.empty()) j.started = j.updated;
  if (state == "successful" || state == "failed" || state == "dismissed") j.finished = j.updated;
}

void Jobs::work() {
  while (true) {
    std::string id;
    {
      std::unique_lock lock(mutex_);
      more_.wait(lock, [&] { return ending_ || !queue_.empty(); });
      if (ending_) return;
      id = queue_.front();
      if (wait_seconds_ > 0) {
        more_.wait_for(lock, std::chrono::seconds(wait_seconds_), [&] { return ending_; });
        if (ending_) return;
      }
      // It may have been called off meanwhile.
      if (queue_.empty() || queue_.front() != id) continue;
      queue_.pop_front();
    }
    Job& job = jobs_.at(id);  // never removed, so it stays where it is
    try {
      run(job);
    } catch (const Error& e) {
      std::lock_guard lock(mutex_);
      const bool off = e.code() == ErrorCode::Cancelled;
      change(job, off ? "dismissed" : "failed", off ? "was called off" : e.what(), job.percent);
    } catch (const std::exception& e) {
      std::lock_guard lock(mutex_);
      change(job, "failed", e.what(), job.percent);
    }
  }
}

void Jobs::run(Job& job) {
  auto tell = [&](const std::string& message, int percent) {
    std::lock_guard lock(mutex_);
    job.progress->check();
    change(job, "running", message, percent);
  };
  tell("looks for tiles", 5);
  const Area area = area_of(job.inputs);
  const Shortlist s = find_tiles(
      catalogue_, area, {.all = true, .one_reference = true, .filter = {.survey = word(job.inputs, "survey")}});
  std::vector<Grid> grids;
  for (const ShortlistTile& t : s.tiles)
    if (t.kept) grids.push_back(open_grid(t.tile.path));
  if (grids.empty()) throw Error(ErrorCode::BadArgument, "no tile lies there", "area");
  tell(fmt::format("joins {} tiles", grids.size()), 20);
  Grid g = grids.size() == 1 ? grids[0] : mosaic(grids, {});
  const double cell = number(job.inputs, "cell");
  const std::string crs_text = word(job.inputs, "crs");
  const Crs crs = crs_text.empty() ? g.frame().crs() : crs_text == "utm" ? area.utm() : Crs::parse(crs_text);
  g = clip(g, area, {.margin = Length::metres(std::max(cell, ground_spacing(g.frame()).y.metres()) * 4)});
  if (member(job.inputs, "fill") == true) g = fill_voids(g, {}).grid;
  if (cell > 0 || !crs.same_place(g.frame().crs())) {
    const Bounds box = area.in(crs).bounds();
    const CellSize size = cell > 0 ? cell_for(crs, Length::metres(cell), box.centre())
                                   : cell_for(crs, ground_spacing(g.frame()).y, box.centre());
    const Frame to = Frame::snapped(crs, box, size);
    if (static_cast<double>(to.cols()) * static_cast<double>(to.rows()) > kMostCells)
      throw Error(ErrorCode::TooLarge, "would have too many cells", "cell", "ask for a larger cell or a smaller area");
    g = reproject(g, to);
  }
  g = clip(g, area);
  tell("writes", 60);
  const fs::path file = folder_ / (job.id + ending_of(job.inputs));
  write_grid(g, file, {.overwrite = true, .run = {.progress = job.progress.get()}});
  std::lock_guard lock(mutex_);
  job.file = file;
  change(job, "successful", "done", 100);
}

}  // namespace katoptra
