// Orders from services that extract on demand, and the stand-in for such services.
#include <cstdio>
#include <filesystem>
#include <fmt/format.h>
#include <thread>
#include <unistd.h>

#include "katoptra/base/error.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/catalogue/orders.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/format.hpp"

#include "common.hpp"
#include "service.hpp"

namespace katoptra::cli {
namespace fs = std::filesystem;
namespace {

struct OrderCommand : Common {
  std::string service, process = "extract", book, gazetteer;
  std::vector<std::string> set;
  std::int64_t id = 0;
  bool no_wait = false;

  fs::path book_path() const { return book.empty() ? default_order_book() : fs::path(book); }
  // name=value, where value is JSON when it can be, else text.
  std::string inputs() const {
    ordered_json j = ordered_json::object();
    for (const std::string& s : set) {
      const auto eq = s.find('=');
      if (eq == 0 || eq == s.npos)
        throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no input", s), "--set", "write name=value");
      auto value = ordered_json::parse(s.substr(eq + 1), nullptr, false);
      // A length with its unit goes to the service as metres, which is what its inputs count in.
      if (value.is_discarded()) try {
          value = Length::parse(s.substr(eq + 1)).metres();
        } catch (const Error&) {
          // then it is a word
        }
      j[s.substr(0, eq)] = value.is_discarded() ? ordered_json(s.substr(eq + 1)) : value;
    }
    return j.dump();
  }
  std::optional<Area> given_area() const {
    if (area.empty()) return std::nullopt;
    Area a = area_from(area, nullptr, {.gazetteer = gazetteer, .margin = margin, .folders = {}, .tiles = {}});
    return margin.empty() ? a : a.grown(Length::parse(margin, LengthUnit::Metre));
  }
};

ordered_json order_json(const Order& o) {
  ordered_json j = {{"id", o.id},           {"kind", o.kind},       {"service", o.service},
                    {"process", o.process}, {"job", o.job},         {"state", o.state},
                    {"message", o.message}, {"created", o.created}, {"file", o.file.string()},
                    {"bytes", o.bytes}};
  j["inputs"] = ordered_json::parse(o.inputs.empty() ? "{}" : o.inputs, nullptr, false);
  const Bounds b = bounds_of(o.area);
  j["box"] = b.empty() ? ordered_json(nullptr) : ordered_json{b.west, b.south, b.east, b.north};
  j["stages"] = ordered_json::array();
  for (const OrderStage& s : o.stages)
    j["stages"].push_back({{"state", s.state}, {"message", s.message}, {"time", s.time}, {"seconds", s.seconds}});
  return j;
}

std::string stage_line(const OrderStage& s) {
  return fmt::format("{}  {:<11} {}{}", s.time.substr(0, 19), s.state, s.message,
                     s.seconds > 0 ? fmt::format("  ({:.1f} s)", s.seconds) : "");
}

void state(const OrderCommand& c, const Order& o) {
  if (c.json) {
    std::fputs((order_json(o).dump(2) + "\n").c_str(), stdout);
  } else if (!c.quiet) {
    fmt::print("order {}: {} of {}, {}\n", o.id, o.process, o.service, o.state);
    for (const OrderStage& s : o.stages) fmt::print("  {}\n", stage_line(s));
    if (o.state == "successful") fmt::print("collect it with: katoptra order collect {} -o FILE\n", o.id);
    if (!o.done()) fmt::print("follow it with: katoptra order follow {}\n", o.id);
    if (o.state == "collected") fmt::print("  {}, {}\n", o.file.string(), format_bytes(static_cast<double>(o.bytes)));
  }
}

Order follow(const OrderCommand& c, OrderBook& book, std::int64_t id) {
  // The host is one that the user named when the order was made.
  name_host(book.get(id).service);
  FollowOptions f{.at_most = std::nullopt, .progress = &progress(), .say = {}};
  if (!c.json && !c.quiet && ::isatty(2))
    f.say = [](const Order& o) { fmt::print(stderr, "- {} {}\n", o.state, o.message); };
  return follow_order(book, id, f);
}

// After an order was made: follow it and bring what it made, unless that was not wanted.
void finish(const OrderCommand& c, OrderBook& book, std::int64_t id, int& status) {
  Order o = book.get(id);
  if (!c.no_wait) {
    o = follow(c, book, id);
    if (!c.out.empty() && o.state == "successful") o = collect_order(book, id, c.out, c.overwrite);
  }
  state(c, o);
  if (o.state == "failed" || o.state == "dismissed") status = 4;
}

void list(const OrderCommand& c) {
  const auto orders = OrderBook(c.book_path()).list();
  if (c.json) {
    ordered_json j = ordered_json::array();
    for (const Order& o : orders) j.push_back(order_json(o));
    std::fputs((j.dump(2) + "\n").c_str(), stdout);
    return;
  }
  if (c.quiet) return;
  if (orders.empty()) fmt::print("the book {} is empty\n", c.book_path().string());
  for (const Order& o : orders) {
    const Bounds b = bounds_of(o.area);
    const std::string box =
        b.empty() ? "" : fmt::format("box:{:.4f},{:.4f},{:.4f},{:.4f}", b.west, b.south, b.east, b.north);
    fmt::print("{:>4}  {}  {:<5}  {:<10}  {:>10}  {}  {}\n", o.id, o.created.substr(0, 16), o.kind, o.state,
               o.bytes ? format_bytes(static_cast<double>(o.bytes)) : "", box,
               o.kind == "order" ? o.service + " " + o.process + " " + o.inputs : o.service + " " + o.message);
  }
}

void draw_demand(const OrderCommand& c) {
  const auto orders = OrderBook(c.book_path()).list();
  const Grid g = demand_grid(orders);
  if (format_of(c.out, Holds::Grids, Use::Written) && !picture_named(c.out)) {
    write_and_state(g, c, {});
    return;
  }
  write_picture(draw_map(g, {.format = picture_format_for(c.out),
                             .width = 1280,
                             .land = {.light = MapLight::None},
                             .title = "Where data are wanted",
                             .subtitle = fmt::format("{} orders and fetches", orders.size())}),
                c.out, c.overwrite);
  if (!c.quiet && !c.json) fmt::print("{}\n", c.out);
}

struct ServeCommand : Common {
  std::string folder, listen = "127.0.0.1", slow, book;
  int port = 0, page = 100, queue = 0;
  bool log = false;
  Misbehaviour wrong;
};

void serve(const ServeCommand& c) {
  ServiceOptions o{.folder = c.folder,
                   .host = c.listen,
                   .port = c.port,
                   .key = {},
                   .page = c.page,
                   .book = c.book,
                   .job_seconds = c.queue,
                   .wrong = c.wrong,
                   .log = {}};
  if (const auto k = http_access().keys.find(""); k != http_access().keys.end()) o.key = k->second;
  if (!c.slow.empty()) o.wrong.bytes_per_second = static_cast<double>(parse_bytes(c.slow));
  if (c.log) o.log = [](const std::string& line) { fmt::print(stderr, "{}\n", line); };
  Service s(o);
  fmt::print("{}\n", s.address());
  if (!c.quiet)
    fmt::print("serves {} until it is interrupted; restricted tiles are {}\n", c.folder,
               o.key.empty() ? "closed" : "open to the key");
  std::fflush(stdout);
  std::jthread watch([&](std::stop_token stop) {
    while (!stop.stop_requested() && !progress().cancelled())
      std::this_thread::sleep_for(std::chrono::milliseconds(50));
    s.stop();
  });
  s.run();
}

// A verb under `order`, with the options of those that look at the book; of those that order something, too.
std::pair<CLI::App*, std::shared_ptr<OrderCommand>> add_order_verb(CLI::App& order, const char* name, const char* what,
                                                                   bool makes = false) {
  auto c = std::make_shared<OrderCommand>();
  CLI::App* v = order.add_subcommand(name, what);
  v->add_option("--book", c->book, "the order book (default: KATOPTRA_BOOK, or one of yours)");
  if (makes) {
    v->add_option("--area", c->area, "box:W,S,E,N, circle:LON,LAT,RADIUS, a vector file, like:FILE or place:NAME");
    v->add_option("--margin", c->margin, "this much around the area, e.g. 50m");
    v->add_option("--gazetteer", c->gazetteer, "where places are looked up (GeoJSON)");
    v->add_option("--set", c->set, "an input of the process, name=value")->take_all();
    v->add_flag("--no-wait", c->no_wait, "do not follow it; collect it later by its number");
  }
  return {v, c};
}

void add_new(CLI::App& order, int& status) {
  auto [make, m] = add_order_verb(order, "new", "order an extraction", true);
  make->add_option("SERVICE", m->service, "the address of the service")->required();
  make->add_option("--process", m->process, "its name there");
  make->get_option("--area")->required();
  add_output(*make, *m, false);
  add_network(*make, *m);
  add_running(*make, *m);
  make->callback([m = m, &status] {
    OrderBook book(m->book_path());
    finish(*m, book,
           submit_order(
               book, {.service = m->service, .process = m->process, .area = *m->given_area(), .inputs = m->inputs()}),
           status);
  });
}

void add_repeat(CLI::App& order, int& status) {
  auto [again, r] = add_order_verb(order, "repeat", "order the same again, with changes", true);
  again->add_option("NUMBER", r->id, "of the order in the book")->required();
  add_output(*again, *r, false);
  add_network(*again, *r);
  add_running(*again, *r);
  again->callback([r = r, &status] {
    OrderBook book(r->book_path());
    name_host(book.get(r->id).service);
    finish(*r, book, repeat_order(book, r->id, r->inputs(), r->given_area()), status);
  });
}

void add_follow(CLI::App& order, int& status) {
  auto [foll, f] = add_order_verb(order, "follow", "wait until an order is done");
  foll->add_option("NUMBER", f->id, "of the order in the book")->required();
  add_network(*foll, *f);
  add_running(*foll, *f);
  foll->callback([f = f, &status] {
    OrderBook book(f->book_path());
    const Order o = follow(*f, book, f->id);
    state(*f, o);
    if (o.state == "failed" || o.state == "dismissed") status = 4;
  });
}

void add_collect(CLI::App& order) {
  auto [coll, k] = add_order_verb(order, "collect", "bring the result of an order");
  coll->add_option("NUMBER", k->id, "of the order in the book")->required();
  add_output(*coll, *k);
  add_network(*coll, *k);
  add_running(*coll, *k);
  coll->callback([k = k] {
    OrderBook book(k->book_path());
    name_host(book.get(k->id).service);
    state(*k, collect_order(book, k->id, k->out, k->overwrite));
  });
}

void add_dismiss(CLI::App& order) {
  auto [drop, d] = add_order_verb(order, "dismiss", "call an order off");
  drop->add_option("NUMBER", d->id, "of the order in the book")->required();
  add_network(*drop, *d);
  add_running(*drop, *d);
  drop->callback([d = d] {
    OrderBook book(d->book_path());
    name_host(book.get(d->id).service);
    state(*d, dismiss_order(book, d->id));
  });
}

void add_list_and_map(CLI::App& order) {
  auto [lst, l] = add_order_verb(order, "list", "what was ordered and fetched");
  add_running(*lst, *l);
  lst->callback([l = l] { list(*l); });
  auto [map, p] = add_order_verb(order, "map", "how often each spot was asked for");
  add_output(*map, *p);
  add_running(*map, *p);
  map->callback([p = p] { draw_demand(*p); });
}

void add_serve(CLI::App& app) {
  auto s = std::make_shared<ServeCommand>();
  CLI::App* v = app.add_subcommand("serve",
                                   "a stand-in data service over a folder: STAC API, files, extraction; for a browser "
                                   "the search on a map");
  v->add_option("FOLDER", s->folder, "tiles to serve")->required();
  v->add_option("--listen", s->listen, "the address to listen at; others than loopback let others in");
  v->add_option("--port", s->port, "0: any that is free")->check(CLI::Range(0, 65535));
  v->add_option("--key-file", s->key_file, "a file with the key that opens restricted tiles (or KATOPTRA_KEY)");
  v->add_option("--items", s->page, "most items in an answer")->check(CLI::Range(1, 10000));
  v->add_option("--book", s->book, "an order book: the page shows where data were asked for");
  v->add_option("--queue", s->queue, "seconds that an extraction waits for its turn");
  v->add_option("--slow", s->slow, "files come no faster than this, a second, e.g. 100K");
  v->add_option("--cut-every", s->wrong.cut_every, "every how-maniest file ends in the middle");
  v->add_option("--fail-every", s->wrong.fail_every, "every how-maniest answer is 503");
  v->add_option("--busy-every", s->wrong.busy_every, "every how-maniest answer is 429, Retry-After: 1");
  v->add_option("--truncate-every", s->wrong.truncate_every,
                "every how-maniest whole file comes short and says nothing");
  v->add_option("--wrong-parts-every", s->wrong.wrong_parts_every,
                "every how-maniest part of a file is not the one that was asked for");
  v->add_flag("--wrong-sizes", s->wrong.wrong_sizes, "the catalogue tells wrong sizes and no checksums");
  v->add_flag("--no-ranges", s->wrong.no_ranges, "files come whole or not at all");
  v->add_flag("--log", s->log, "each request on stderr");
  v->add_flag("--quiet", s->quiet, "print the address only");
  v->callback([s] { serve(*s); });
}

}  // namespace

void add_order_and_serve(CLI::App& app, int& status) {
  CLI::App* order = app.add_subcommand("order", "orders from services that extract on demand, and the book of them");
  order->require_subcommand(1);
  add_new(*order, status);
  add_repeat(*order, status);
  add_follow(*order, status);
  add_collect(*order);
  add_dismiss(*order);
  add_list_and_map(*order);
  add_serve(app);
}

}  // namespace katoptra::cli
