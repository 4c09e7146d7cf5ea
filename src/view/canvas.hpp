// A sheet to draw on: thin ownership over the drawing library, in pixels from the upper left.
#pragma once
#include <cairo.h>
#include <memory>
#include <string>
#include <vector>

#include "katoptra/view/map.hpp"
#include "katoptra/view/palette.hpp"

namespace katoptra {

enum class Align { Left, Centre, Right };

class Canvas {
 public:
  Canvas(PictureFormat format, int width, int height);
  // A sheet that is clear, to be laid over a picture.
  Canvas(int width, int height);

  cairo_t* cr() const { return cr_.get(); }
  void colour(Colour c, double alpha = 1) { cairo_set_source_rgba(cr(), c.red, c.green, c.blue, alpha); }
  void line_width(double w) { cairo_set_line_width(cr(), w); }
  void box(double x, double y, double w, double h) { cairo_rectangle(cr(), x, y, w, h); }
  void line(double x0, double y0, double x1, double y1);
  void dashes(std::initializer_list<double> pattern);
  // `y` is the base line. Words that would run off the sheet are made smaller, and cut where that is not enough.
  void text(double x, double y, const std::string& s, double size, Align align = Align::Left, bool bold = false);
  double text_width(const std::string& s, double size, bool bold = false);
  // Text turned a quarter to the left, centred at x, y.
  void text_upright(double x, double y, const std::string& s, double size);
  // Centred at x, y and turned (radians, clockwise on the sheet), with a pale edge that keeps it readable on any
  // ground.
  void text_along(double x, double y, const std::string& s, double size, double turn, Colour ink);
  // The same without being turned, and beside its place.
  void text_clear(double x, double y, const std::string& s, double size, Align align, Colour ink);
  // Pixels of a picture (red, green, blue, opacity).
  struct Laid {
    Point corner = {};  // the upper left one
    double pixel = 1;   // its edge
    double opacity = 1;
    bool multiply = false;  // darkens what lies below instead of hiding it
    bool photo = false;     // packed as photographs are, where a PDF is made and nothing shows through
  };
  void paint(const std::vector<std::uint8_t>& rgba, std::int64_t width, const Laid& how);
  // Of a clear sheet: opacity, red, green, blue from the highest byte, colours multiplied by their opacity.
  std::vector<std::uint32_t> pixels();
  // Of PDF: what is drawn from here on lies on a page of its own.
  void next_page() { cairo_show_page(cr()); }
  // While a part is drawn at another scale: so wide and high is the sheet for words, in units of the part.
  void within(int width, int height) {
    width_of_words_ = width;
    height_of_words_ = height;
  }
  Picture finish();

 private:
  struct Destroy {
    void operator()(cairo_t* c) const { cairo_destroy(c); }
    void operator()(cairo_surface_t* s) const { cairo_surface_destroy(s); }
  };
  void font(double size, bool bold);
  void place(double x, double y, std::string s, double size, Align align, bool bold, double room);
  void write_png();
  static cairo_status_t append(void* self, const unsigned char* data, unsigned n);

  bool has_font_ = false;
  PictureFormat format_;
  int width_, height_, width_of_words_ = width_, height_of_words_ = height_;
  std::vector<std::uint8_t> bytes_;
  std::unique_ptr<cairo_surface_t, Destroy> surface_;
  std::unique_ptr<cairo_t, Destroy> cr_;
};

inline constexpr Colour kInk{0.13, 0.15, 0.17}, kQuiet{0.42, 0.45, 0.48}, kPaper{1, 1, 1}, kHairline{0.82, 0.84, 0.86};

// A number as an axis shows it: no more decimals than the step needs, thousands apart.
std::string axis_label(double value, double step);

}  // namespace katoptra
