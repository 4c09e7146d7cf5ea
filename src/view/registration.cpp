#include "registration.hpp"

#include <fmt/format.h>
#include <string>
#include <vector>
#define POINTERHOLDER_TRANSITION 4  // no pointers of the library's own
#include <qpdf/QPDF.hh>
#include <qpdf/QPDFObjectHandle.hh>
#include <qpdf/QPDFPageDocumentHelper.hh>
#include <qpdf/QPDFPageObjectHelper.hh>
#include <qpdf/QPDFWriter.hh>

#include "katoptra/base/error.hpp"

namespace katoptra {
namespace {

// Corners and middles of the sides, round the box from its lower left corner, as shares of it.
constexpr double kPlaces[][2] = {{0, 0}, {0, 0.5}, {0, 1}, {0.5, 1}, {1, 1}, {1, 0.5}, {1, 0}, {0.5, 0}};

QPDFObjectHandle numbers(const std::vector<double>& values, int digits) {
  QPDFObjectHandle out = QPDFObjectHandle::newArray();
  for (const double v : values) out.appendItem(QPDFObjectHandle::newReal(v, digits));
  return out;
}

QPDFObjectHandle system_of(const Crs& crs) {
  QPDFObjectHandle d = QPDFObjectHandle::newDictionary();
  d.replaceKey("/Type", QPDFObjectHandle::newName(crs.is_geographic() ? "/GEOGCS" : "/PROJCS"));
  if (crs.epsg()) d.replaceKey("/EPSG", QPDFObjectHandle::newInteger(crs.epsg()));
  d.replaceKey("/WKT", QPDFObjectHandle::newString(crs.with_heights({}).file_wkt()));
  return d;
}

QPDFObjectHandle measure_of(const Frame& frame) {
  const Bounds b = frame.bounds();
  const Transform to_globe(frame.crs(), frame.crs().geodetic());
  std::vector<double> shares, places;
  for (const auto& [x, y] : kPlaces) {
    const Point p = to_globe.forward({b.west + x * b.width(), b.south + y * b.height()});
    shares.insert(shares.end(), {x, y});
    places.insert(places.end(), {p.y, p.x});
  }
  QPDFObjectHandle d = QPDFObjectHandle::newDictionary();
  d.replaceKey("/Type", QPDFObjectHandle::newName("/Measure"));
  d.replaceKey("/Subtype", QPDFObjectHandle::newName("/GEO"));
  d.replaceKey("/Bounds", numbers({0, 0, 0, 1, 1, 1, 1, 0}, 1));
  d.replaceKey("/GPTS", numbers(places, 10));
  d.replaceKey("/LPTS", numbers(shares, 1));
  d.replaceKey("/GCS", system_of(frame.crs()));
  QPDFObjectHandle units = QPDFObjectHandle::newArray();
  for (const char* unit : {"/M", "/SQM", "/DEG"}) units.appendItem(QPDFObjectHandle::newName(unit));
  d.replaceKey("/PDU", units);
  return d;
}

}  // namespace

void register_pages(Picture& picture, const std::vector<RegisteredPlace>& places, const std::string& name) {
  try {
    QPDF pdf;
    pdf.processMemoryFile("page", reinterpret_cast<const char*>(picture.bytes.data()), picture.bytes.size());
    std::vector<QPDFPageObjectHelper> pages = QPDFPageDocumentHelper(pdf).getAllPages();
    for (std::size_t i = 0; i < places.size(); ++i) {
      const Bounds& on = places[i].on_page;
      const double top = pages.at(i).getMediaBox().getArrayItem(3).getNumericValue();
      QPDFObjectHandle view = QPDFObjectHandle::newDictionary();
      view.replaceKey("/Type", QPDFObjectHandle::newName("/Viewport"));
      view.replaceKey("/BBox", numbers({on.west, top - on.north, on.east, top - on.south}, 4));
      view.replaceKey("/Name", QPDFObjectHandle::newUnicodeString(name));
      view.replaceKey("/Measure", measure_of(places[i].frame));
      QPDFObjectHandle views = QPDFObjectHandle::newArray();
      views.appendItem(view);
      pages[i].getObjectHandle().replaceKey("/VP", views);
    }
    QPDFWriter writer(pdf);
    writer.setOutputMemory();
    writer.setDeterministicID(true);
    writer.setMinimumPDFVersion("1.7");
    writer.write();
    const auto buffer = writer.getBufferSharedPointer();
    picture.bytes.assign(buffer->getBuffer(), buffer->getBuffer() + buffer->getSize());
  } catch (const std::exception& e) {
    throw Error(ErrorCode::Io, fmt::format("the page cannot be registered: {}", e.what()), name);
  }
}

}  // namespace katoptra
