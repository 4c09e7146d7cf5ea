// Study files that people mistyped: every line of the example study, in every way to get it wrong.
#include <cctype>
#include <fmt/format.h>
#include <sstream>

#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/point_file.hpp"
#include "katoptra/study/study.hpp"
#include "katoptra/terrain/products.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

std::vector<std::string> lines_of(const std::string& text) {
  std::vector<std::string> lines;
  std::istringstream in(text);
  for (std::string line; std::getline(in, line);) lines.push_back(line);
  return lines;
}

std::string joined(const std::vector<std::string>& lines) {
  std::string text;
  for (const std::string& line : lines) text += line + "\n";
  return text;
}

class StudyText : public ::testing::Test {
 protected:
  StudyText() : lines_(lines_of(read_text_file(std::string(KATOPTRA_DEMO_DATA) + "/study.toml"))) {
    for (const auto& entry : std::filesystem::directory_iterator(KATOPTRA_DEMO_DATA))
      if (entry.path().filename() != "study.toml" && entry.path().filename() != "lidar-2022")
        std::filesystem::create_symlink(entry.path(), folder_ / entry.path().filename().string());
    // A few points instead of sheets, and a length instead of a grid: they are opened each time.
    for (std::string& line : lines_)
      if (line.starts_with("shift = \"separation")) line = "shift = \"-9.4m\"";
    std::filesystem::create_directory(folder_ / "lidar-2022");
    write_text_file(folder_ / "few.csv", "x,y,z\n677000,5841000,5\n677001,5841000,6\n677002,5841001,7\n");
    write_points(open_point_file(folder_ / "few.csv", {.open = {.crs = Crs::parse("EPSG:32725")}}).cloud,
                 folder_ / "lidar-2022/few.las");
  }

  // Reads the text as a study; what is said of it, or nothing when it is understood.
  std::string said_of(const std::string& text) {
    write_text_file(folder_ / "study.toml", text, {.overwrite = true});
    try {
      read_study(folder_ / "study.toml");
      return {};
    } catch (const Error& e) {
      const std::string said = e.what();
      EXPECT_EQ(said.find('\n'), said.npos) << said;
      // A file of another name is not there; all else is told of the study.
      if (e.code() == ErrorCode::Io) return said;
      EXPECT_TRUE(e.code() == ErrorCode::BadFile || e.code() == ErrorCode::BadArgument) << said;
      EXPECT_NE(said.find("study.toml"), said.npos) << said;
      return said;
    }
  }
  static bool is_setting(const std::string& line) { return line.find(" = ") != line.npos && line[0] != '#'; }

  TemporaryFolder folder_;
  std::vector<std::string> lines_;
};

TEST_F(StudyText, IsUnderstoodAsItStands) { EXPECT_EQ(said_of(joined(lines_)), ""); }

TEST_F(StudyText, AKeyThatIsNotKnownIsNamedWithItsLine) {
  int tried = 0;
  for (std::size_t i = 0; i < lines_.size(); ++i) {
    if (!is_setting(lines_[i])) continue;
    const std::string key = lines_[i].substr(0, lines_[i].find(" = "));
    for (const std::string& wrong : {i % 2 ? key + "s" : "x" + key, key.substr(0, key.size() - 1)}) {
      if (wrong.empty() || wrong == "cell" || wrong == "crs") continue;
      auto lines = lines_;
      lines[i] = wrong + lines[i].substr(key.size());
      const std::string said = said_of(joined(lines));
      EXPECT_NE(said.find('\'' + wrong + '\''), said.npos) << lines[i] << ": " << said;
      EXPECT_NE(said.find(fmt::format("line {}", i + 1)), said.npos) << lines[i] << ": " << said;
      ++tried;
    }
  }
  EXPECT_GT(tried, 80);
}

TEST_F(StudyText, AValueOfAnotherTypeIsNamedWithItsLine) {
  int tried = 0;
  for (std::size_t i = 0; i < lines_.size(); ++i) {
    if (!is_setting(lines_[i])) continue;
    const std::string key = lines_[i].substr(0, lines_[i].find(" = "));
    const std::string value = lines_[i].substr(key.size() + 3);
    for (const char* wrong : {"[]", "12"}) {
      if (std::isdigit(static_cast<unsigned char>(value[0])) && std::isdigit(static_cast<unsigned char>(wrong[0])))
        continue;
      const bool text = value[0] == '"', list = value[0] == '[', yes = value.starts_with("true");
      // What is of the right type may be right; what it says then is another test's.
      if ((text && wrong[0] == '"') || (list && wrong[0] == '[') || (yes && std::string(wrong) == "true")) continue;
      // A name alone may stand for a list of one.
      if (list && wrong[0] == '"') continue;
      if (text && key == "area") continue;
      auto lines = lines_;
      lines[i] = key + " = " + wrong;
      const std::string said = said_of(joined(lines));
      EXPECT_NE(said, "") << lines[i];
      EXPECT_NE(said.find(fmt::format("line {}", i + 1)), said.npos) << lines[i] << ": " << said;
      ++tried;
    }
  }
  EXPECT_GT(tried, 60);
}

TEST_F(StudyText, CutAnywhereItIsAnErrorOrAStudy) {
  const std::string whole = joined(lines_);
  for (std::size_t at = 0; at < whole.size(); at += 23) said_of(whole.substr(0, at));
  // And with bytes that are no text.
  std::mt19937 random(3);
  for (int turn = 0; turn < 120; ++turn) {
    std::string bad = whole;
    for (int k = 0; k < 3; ++k) bad[random() % bad.size()] = static_cast<char>(random());
    said_of(bad);
  }
}

TEST_F(StudyText, TablesThatAreNotKnownOrComeTwice) {
  const std::string whole = joined(lines_);
  EXPECT_NE(said_of(whole + "[area]\nfile = \"b.geojson\"\n"), "");
  EXPECT_NE(said_of(whole + "[produkt]\nkind = \"map\"\n").find("produkt"), std::string::npos);
  EXPECT_NE(said_of(whole + "[product]\nkind = \"map\"\n"), "") << "one table where a list of them is meant";
  EXPECT_NE(said_of(whole + "[[frame]]\ncell = \"1m\"\n"), "") << "and the other way round";
}

// Lengths and angles want their unit, wherever they stand.
TEST_F(StudyText, LengthsWithoutAUnitAreNotGuessed) {
  for (const char* key : {"margin", "cell", "feather", "largest", "interval", "water_level", "longest_edge"}) {
    bool tried = false;
    for (std::size_t i = 0; i < lines_.size(); ++i) {
      if (!lines_[i].starts_with(std::string(key) + " = \"")) continue;
      for (const char* wrong : {"\"5\"", "\"five metres\"", "\"5 parsec\"", "\"\"", "\"nan m\""}) {
        auto lines = lines_;
        lines[i] = std::string(key) + " = " + wrong;
        EXPECT_NE(said_of(joined(lines)), "") << lines[i];
      }
      tried = true;
    }
    EXPECT_TRUE(tried) << key;
  }
}

TEST_F(StudyText, LevelsAreHeldBySomething) {
  std::string whole = joined(lines_);
  const auto at = whole.find("hold = [");
  const auto with = [&](const std::string& line) {
    std::string text = whole;
    text.replace(at, text.find('\n', at) - at, line);
    return said_of(text);
  };
  EXPECT_EQ(with("control = true"), "");
  EXPECT_EQ(with("hold = [\"a\", \"b\"]\neach_tile = true"), "");
  EXPECT_NE(with("").find("holds nothing"), std::string::npos);
  EXPECT_NE(with("hold = [\"a\"]\nfit = \"planes\"").find("fit"), std::string::npos) << "twice";
  whole.replace(whole.find("fit = \"offsets\""), 15, "fit = \"splines\"");
  EXPECT_NE(said_of(whole).find("use offsets or planes"), std::string::npos);
  whole = joined(lines_);
  whole.replace(whole.find("[control]\nfile = \"control.csv\""), 30, "");
  EXPECT_NE(with("control = true").find("there is no [control]"), std::string::npos);
}

TEST_F(StudyText, ProductsHaveAKindAndAPlainName) {
  const std::string whole = joined(lines_);
  const auto with = [&](const std::string& kind, const std::string& file) {
    return said_of(whole + "[[product]]\nkind = \"" + kind + "\"\nfile = \"" + file + "\"\n");
  };
  EXPECT_EQ(with("hillshade", "another.tif"), "");
  for (const char* file : {"../a.tif", "/tmp/a.tif", "", "sub/../../a.tif"})
    EXPECT_NE(with("hillshade", file), "") << file;
  EXPECT_NE(with("painting", "a.tif").find("use hillshade"), std::string::npos);
  for (const Product& p : products()) EXPECT_EQ(with(p.name, "another.tif"), "") << p.name;
  // A kind of a product has the product's name for its key.
  EXPECT_EQ(with("curvature", "another.tif\"\ncurvature = \"plan\"\nwindow = 9 #"), "");
  EXPECT_NE(with("curvature", "another.tif\"\ncurvature = \"flat\" #").find("use profile"), std::string::npos);
  EXPECT_NE(with("curvature", "another.tif\"\nwindow = 8 #").find("another.tif"), std::string::npos);
  EXPECT_NE(said_of(whole + "[[product]]\nfile = \"a.tif\"\n").find("no kind"), std::string::npos);
}

}  // namespace
}  // namespace katoptra
