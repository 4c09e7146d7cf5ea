// Services that extract on demand (OGC API - Processes, part 1: execute asynchronously, poll the job, fetch the
// results), and the book of what was ordered and fetched.
//
//   OrderBook book("orders.book");
//   const auto id = submit_order(book, {.service = "http://127.0.0.1:8080/", .area = area});
//   Order o = follow_order(book, id);                  // until it is done; o.stages has the time of each stage
//   collect_order(book, id, "surface.tif");            // now, or weeks later by its number
//
// The book is one SQLite file. Everything is written down before and after each step, so an order survives the program
// that made it. Keys are not written down.
#pragma once
#include <chrono>
#include <cstdint>
#include <filesystem>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "katoptra/base/run_options.hpp"
#include "katoptra/geo/area.hpp"
#include "katoptra/grid/grid.hpp"

namespace katoptra {

struct OrderRequest {
  std::string service;              // the landing page
  std::string process = "extract";  // its name there
  Area area;
  std::string inputs = "{}";  // further inputs, a JSON object
};

// What the service said, and when: "accepted", "running: joins 3 tiles", "successful", "collected".
struct OrderStage {
  std::string state, message;
  std::string time;    // ISO, UTC
  double seconds = 0;  // until the next stage; for the last one 0
};

struct Order {
  std::int64_t id = 0;
  std::string kind;  // "order", or "fetch" for tiles brought from a shortlist
  std::string service, process, job, inputs;
  std::string state, message;
  std::string created;
  std::string result;          // address
  std::filesystem::path file;  // where it was put
  std::uint64_t bytes = 0;
  MultiPolygon area;  // longitude and latitude
  std::vector<OrderStage> stages;
  bool done() const {
    return state == "successful" || state == "failed" || state == "dismissed" || state == "collected";
  }
};

class OrderBook {
 public:
  // Made when it is not there. BadFile when it is something else.
  explicit OrderBook(const std::filesystem::path& path);
  ~OrderBook();
  std::vector<Order> list() const;  // newest first
  // BadArgument when there is no such order.
  Order get(std::int64_t id) const;
  std::int64_t add(const Order& order);
  void update(const Order& order);
  void add_stage(std::int64_t id, const std::string& state, const std::string& message);
  const std::string& file() const;

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};
// $KATOPTRA_BOOK, else $XDG_DATA_HOME/katoptra/orders.book, else ~/.local/share/katoptra/orders.book.
std::filesystem::path default_order_book();

struct FollowOptions {
  std::chrono::milliseconds first{300}, longest{5000};  // between two questions
  std::optional<std::chrono::seconds> at_most;          // then it comes back undone
  Progress* progress = nullptr;                         // stops following; the order goes on
  std::function<void(const Order&)> say;                // at each new stage
};
// The area goes to the input that the process describes as a box or a geometry (else one called area, bbox, aoi ...).
// Network, or BadArgument when the process does not know an input.
std::int64_t submit_order(OrderBook& book, const OrderRequest& request);
Order follow_order(OrderBook& book, std::int64_t id, const FollowOptions& options = {});
// Brings the result of a successful order. Refused while it is not done, or when it failed.
Order collect_order(OrderBook& book, std::int64_t id, const std::filesystem::path& path, bool overwrite = false);
// The same order again, with some inputs changed (a JSON object) and perhaps another area.
std::int64_t repeat_order(OrderBook& book, std::int64_t id, const std::string& changes,
                          const std::optional<Area>& area = std::nullopt);
Order dismiss_order(OrderBook& book, std::int64_t id);

// How often each spot was asked for: a grid in longitude and latitude, about `cells` along its longer side; void where
// nobody asked. Refused when the book names no area.
Grid demand_grid(const std::vector<Order>& orders, int cells = 400);

}  // namespace katoptra
