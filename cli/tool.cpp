// The katoptra tool: verbs over the library. No computation here.
#include "tool.hpp"

#include <algorithm>
#include <atomic>
#include <csignal>
#include <cstdio>
#include <filesystem>
#include <fmt/format.h>
#include <map>
#include <set>
#include <string_view>
#include <unistd.h>
#include <vector>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/probe.hpp"
#include "katoptra/version.hpp"

#include "common.hpp"

namespace {

// The first asks for an orderly end, and gives it ten seconds; the second is not a question.
void on_interrupt(int) {
  static std::atomic<bool> asked{false};
  if (asked.exchange(true)) ::_exit(130);
  katoptra::cli::progress().cancel();
  ::alarm(10);
}
void on_alarm(int) { ::_exit(130); }

// How many letters must be changed, put in, taken out or turned around to make one word of the other.
std::size_t distance(const std::string& a, const std::string& b) {
  std::vector<std::vector<std::size_t>> d(a.size() + 1, std::vector<std::size_t>(b.size() + 1));
  for (std::size_t i = 0; i <= a.size(); ++i)
    for (std::size_t j = 0; j <= b.size(); ++j) {
      if (i == 0 || j == 0) {
        d[i][j] = i + j;
        continue;
      }
      d[i][j] = std::min({d[i - 1][j] + 1, d[i][j - 1] + 1, d[i - 1][j - 1] + (a[i - 1] != b[j - 1])});
      if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1])
        d[i][j] = std::min(d[i][j], d[i - 2][j - 2] + 1);
    }
  return d[a.size()][b.size()];
}

// Other words that people try, and ours for them.
std::string meant_by(const CLI::App& app, const std::string& word) {
  static const std::map<std::string, std::string> kOurs = {
      {"info", "look"}, {"join", "mosaic"}, {"cut", "clip"}, {"shade", "hillshade"}, {"profile", "section"}};
  if (const auto ours = kOurs.find(word); ours != kOurs.end()) return ours->second;
  std::string best;
  std::size_t nearest = 3;
  for (const CLI::App* verb : app.get_subcommands([](const CLI::App*) { return true; }))
    if (const std::size_t d = distance(word, verb->get_name()); d < nearest && d < word.size()) {
      nearest = d;
      best = verb->get_name();
    }
  return best;
}

// What was wrong with the words of the command line: which one, and whose help tells more.
std::string about_words(const CLI::App& app, const CLI::ParseError& e, int argc, char** argv) {
  const auto verbs = app.get_subcommands();
  if (!verbs.empty()) return fmt::format("{}; see katoptra {} --help", e.what(), verbs[0]->get_name());
  if (argc > 1 && argv[1][0] != '-') {
    const std::string word = argv[1], meant = meant_by(app, word);
    if (word == "help")
      return "there is no verb 'help': katoptra --help lists the verbs, katoptra VERB --help tells of one";
    return fmt::format("there is no verb '{}'; {}see katoptra --help", word,
                       meant.empty() ? "" : fmt::format("'{}' may be meant; ", meant));
  }
  return fmt::format("{}; see katoptra --help", e.what());
}

// Outputs of the verbs; everything else on the command line that is a file is read.
bool names_output(const std::string& option) {
  static const std::set<std::string> kOutputs = {"-o",      "--out",       "--map",   "--picture",
                                                 "--rose",  "--histogram", "--worst", "--corrected",
                                                 "--curve", "--keep",      "--page",  "--record"};
  return kOutputs.count(option) > 0;
}

// No verb may put its result where one of its inputs is, not even with --overwrite.
void refuse_input_as_output(int argc, char** argv) {
  namespace fs = std::filesystem;
  std::vector<std::string> outputs, inputs;
  for (int i = 2; i < argc; ++i) {
    std::string word = argv[i];
    if (names_output(word) && i + 1 < argc) {
      outputs.push_back(argv[++i]);
      continue;
    }
    if (const auto equals = word.find('='); equals != word.npos && word.starts_with("--")) {
      (names_output(word.substr(0, equals)) ? outputs : inputs).push_back(word.substr(equals + 1));
      continue;
    }
    if (word.starts_with("like:")) word.erase(0, 5);
    inputs.push_back(word);
  }
  std::error_code ec;
  for (const std::string& out : outputs)
    for (const std::string& in : inputs)
      if (fs::is_regular_file(out, ec) && fs::is_regular_file(in, ec) && fs::equivalent(out, in, ec))
        throw katoptra::Error(katoptra::ErrorCode::BadArgument, "is read by this command, and would be replaced by it",
                              out, "choose another name for the result");
}

}  // namespace

namespace katoptra {

bool is_own_helper(int argc, char** argv) { return argc > 1 && std::string_view(argv[1]) == "probe-container"; }

int run_tool(int argc, char** argv) {
  if (is_own_helper(argc, argv)) return run_probe(argc, argv);
  set_probe_helper("/proc/self/exe");
  std::signal(SIGINT, on_interrupt);
  std::signal(SIGTERM, on_interrupt);
  std::signal(SIGALRM, on_alarm);
  CLI::App app{"From a study area to a terrain surface that can be trusted, and to its products.", "katoptra"};
  app.set_version_flag("--version", std::string("katoptra ") + KATOPTRA_VERSION);
  app.require_subcommand(1);
  cli::lay_out_help(app);
  int status = 0;
  cli::add_look(app, status);
  cli::add_find_and_fetch(app, status);
  cli::add_surface_verbs(app, status);
  cli::add_flatten(app, status);
  cli::add_judging_verbs(app, status);
  cli::add_product_verbs(app, status);
  cli::add_picture_verbs(app, status);
  cli::add_solid_verb(app, status);
  cli::add_view_verb(app, status);
  cli::add_water_verbs(app, status);
  cli::add_point_verbs(app, status);
  cli::add_study_verbs(app, status);
  cli::add_order_and_serve(app, status);
  cli::arrange_help(app);
  try {
    cli::name_hosts_of(argc, argv);
    cli::remember_words(argc, argv);
    refuse_input_as_output(argc, argv);
    app.parse(argc, argv);
    if (std::fflush(stdout) != 0) throw Error(ErrorCode::Io, "the output cannot be written", "stdout");
    return status;
  } catch (const CLI::CallForHelp& e) {
    return app.exit(e);
  } catch (const CLI::CallForVersion& e) {
    return app.exit(e);
  } catch (const CLI::ParseError& e) {
    fmt::print(stderr, "katoptra: {}\n", about_words(app, e, argc, argv));
    return 2;
  } catch (const Error& e) {
    fmt::print(stderr, "katoptra: {}\n", e.what());
    return cli::exit_status(e.code());
  } catch (const std::bad_alloc&) {
    fmt::print(stderr, "katoptra: out of memory; give a smaller --memory or --area\n");
    return 4;
  } catch (const std::exception& e) {
    fmt::print(stderr, "katoptra: {}\n", e.what());
    return 4;
  }
}

}  // namespace katoptra
