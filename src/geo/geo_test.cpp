#include <numbers>

#include "katoptra/geo/area.hpp"
#include "katoptra/geo/crs.hpp"
#include "katoptra/geo/geometry.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using testing::error_of;

TEST(Crs, WithoutANameIsNotUnknown) {
  EXPECT_EQ(Crs::parse("+proj=laea +lat_0=52 +lon_0=10 +ellps=GRS80").name(), "unnamed, Lambert Azimuthal Equal Area");
  EXPECT_EQ(Crs::parse("+proj=longlat +ellps=bessel").name(), "unnamed, in degrees");
}

TEST(Crs, CodesCompoundsAndWkt) {
  const Crs utm = Crs::parse("EPSG:32725");
  EXPECT_EQ(utm.epsg(), 32725);
  EXPECT_FALSE(utm.is_geographic());
  EXPECT_FALSE(utm.heights().known());
  const Crs both = Crs::parse("EPSG:32725+3855");
  EXPECT_EQ(both.heights().name(), "EGM2008 height");
  EXPECT_EQ(both.epsg(), 32725);
  EXPECT_TRUE(both.same_place(utm));
  EXPECT_EQ(Crs::parse(utm.wkt()).epsg(), 32725);
  EXPECT_TRUE(Crs::parse("EPSG:4979").heights().is_ellipsoid());
  EXPECT_TRUE(Crs::parse("EPSG:4979").same_place(Crs::wgs84()));
  EXPECT_TRUE(Crs::parse("EPSG:3857").is_mercator());
  EXPECT_TRUE(Crs::parse("EPSG:3395").is_mercator());
  EXPECT_FALSE(utm.is_mercator());
  EXPECT_EQ(Crs::parse("EPSG:2263").unit_name(), "ftUS");
  EXPECT_FALSE(utm.same_place(Crs::parse("EPSG:32724")));
}

TEST(Crs, NonsenseIsRefusedOnOneLine) {
  std::string text;
  for (const char* bad : {"", "EPSG:0", "EPSG:99999999", "hello", "EPSG:3855", "PROJCS[", "+proj=nothing"})
    EXPECT_EQ(error_of([&] { Crs::parse(bad); }, &text), ErrorCode::BadArgument) << bad;
  EXPECT_EQ(text.find('\n'), text.npos);
}

TEST(Crs, HeightReferencesByNameAndUnit) {
  EXPECT_EQ(HeightReference::parse("EGM2008"), HeightReference::from_epsg(3855));
  EXPECT_EQ(HeightReference::parse("EGM96").epsg(), 5773);
  EXPECT_EQ(HeightReference::parse("EPSG:5703").name(), "NAVD88 height");
  EXPECT_EQ(HeightReference::parse("EPSG:6360").unit(), LengthUnit::UsFoot);
  EXPECT_TRUE(HeightReference::parse("ellipsoid").is_ellipsoid());
  EXPECT_FALSE(HeightReference::parse("unknown").known());
  EXPECT_EQ(HeightReference::parse("EGM2008 height").epsg(), 3855);
  EXPECT_NE(HeightReference::parse("EGM96"), HeightReference::parse("EGM2008"));
  EXPECT_EQ(error_of([] { HeightReference::parse("the floor"); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([] { HeightReference::parse("EPSG:4326"); }), ErrorCode::BadArgument);
}

TEST(Crs, UtmZones) {
  EXPECT_EQ(Crs::utm_for(-31, -37.55).epsg(), 32725);
  EXPECT_EQ(Crs::utm_for(-180, 10).epsg(), 32601);
  EXPECT_EQ(Crs::utm_for(180, 10).epsg(), 32601);
  EXPECT_EQ(Crs::utm_for(179.9, -10).epsg(), 32760);
  EXPECT_EQ(error_of([] { Crs::utm_for(0, 89); }), ErrorCode::BadArgument);
}

// Made with: echo "-37.55 -31.0" | cs2cs EPSG:4326 EPSG:32725
TEST(Transform, XIsEastWhateverTheAuthoritySays) {
  const Transform t(Crs::wgs84(), Crs::parse("EPSG:32725"));
  const Point p = t.forward({-31.0, -37.55});
  EXPECT_NEAR(p.x, 676671.52, 0.006);
  EXPECT_NEAR(p.y, 5842231.82, 0.006);
  const Point back = t.inverse(p);
  EXPECT_NEAR(back.x, -31.0, 1e-10);
  EXPECT_NEAR(back.y, -37.55, 1e-10);
}

TEST(Transform, PointsOutsideBecomeNaN) {
  const Transform t(Crs::wgs84(), Crs::parse("EPSG:3857"));
  EXPECT_TRUE(std::isnan(t.forward({0, 95}).y));
}

TEST(GroundRuler, ScaleOfEveryKindOfCrs) {
  // UTM: 0.9996 on the central meridian; so a unit on the map is 1/0.9996 on the ground.
  const Crs utm = Crs::parse("EPSG:32725");
  const GroundScale s = GroundRuler(utm).at({500000, 5842000});
  EXPECT_NEAR(s.x, 1 / 0.9996, 1e-7);
  EXPECT_NEAR(s.y, 1 / 0.9996, 1e-7);
  // Web maps: 1 / cos(latitude) away from the equator, nearly.
  const Crs web = Crs::parse("EPSG:3857");
  const Point p = Transform(Crs::wgs84(), web).forward({-31, -60});
  EXPECT_NEAR(GroundRuler(web).at(p).x, 0.5, 0.003);
  // Degrees: 111.3 km at the equator, along the meridian 110.6.
  const GroundScale d = GroundRuler(Crs::wgs84()).at({0, 0});
  EXPECT_NEAR(d.x, 111319.49, 0.01);
  EXPECT_NEAR(d.y, 110574.28, 0.01);
  // A system in US feet.
  EXPECT_NEAR(GroundRuler(Crs::parse("EPSG:2263")).at({1000000, 200000}).x, 1200.0 / 3937.0, 1e-4);
}

// At a pole the two sides of a probe lie on opposite meridians: a difference of longitudes there was 147 % off.
TEST(GroundRuler, ScaleAtThePolesAndOnSkewedProjections) {
  const GroundScale pole = GroundRuler(Crs::parse("EPSG:3031")).at({0, 0}),
                    beside = GroundRuler(Crs::parse("EPSG:3031")).at({3, -2000});
  EXPECT_NEAR(pole.x / beside.x, 1, 1e-6);
  EXPECT_NEAR(pole.y / beside.y, 1, 1e-6);
  // Equal-area systems have one area everywhere, also where their axes are not at right angles on the ground.
  for (const char* text : {"+proj=sinu +datum=WGS84 +type=crs", "+proj=laea +lat_0=52 +lon_0=10 +datum=WGS84 +type=crs",
                           "EPSG:6933", "+proj=aea +lat_1=29 +lat_2=45 +lon_0=-96 +datum=NAD83 +type=crs"}) {
    const Crs crs = Crs::parse(text);
    std::vector<Point> p;
    for (double lat : {-60.0, -10.0, 35.0, 70.0})
      for (double lon : {-120.0, -20.0, 40.0}) p.push_back({lon, lat});
    Transform(Crs::wgs84(), crs).forward(p);
    std::vector<double> area(p.size());
    GroundRuler(crs).areas(p, area);
    for (double a : area) EXPECT_NEAR(a, 1, 1e-6) << text;
  }
  // The whole ellipsoid of WGS 84.
  EXPECT_NEAR(360 * GroundRuler(Crs::wgs84()).zone(-90, 90) / 510065621724088.44, 1, 1e-12);
}

// Circles across the antimeridian and over a pole came out inside out or empty.
TEST(Area, CirclesAcrossTheAntimeridianAndOverThePoles) {
  for (const auto& [text, radius] : {std::pair{"circle:180,-17,50km", 50e3},
                                     {"circle:-179.9,-17,50km", 50e3},
                                     {"circle:30,88,600km", 600e3},
                                     {"circle:-100,-90,1000km", 1e6},
                                     {"circle:5,90,300km", 300e3}}) {
    const Area a = parse_area(text);
    // The cap of a sphere: 2 pi R^2 (1 - cos(r / R)); an ellipsoid is within a percent of it.
    const double r = 6371007.0, cap = 2 * M_PI * r * r * (1 - std::cos(radius / r));
    EXPECT_NEAR(a.ground_area() / cap, 1, 0.01) << text;
    EXPECT_LE(a.bounds().width(), 360.0001) << text;
    // Points around its rim, a little inside and a little outside.
    const Point c = text == std::string("circle:30,88,600km") ? Point{30, 88} : a.centre_lonlat();
    const Crs plane = Crs::parse("+proj=aeqd +lat_0=" + std::to_string(c.y) + " +lon_0=" + std::to_string(c.x) +
                                 " +datum=WGS84 +type=crs");
    const Transform out(plane, Crs::wgs84());
    for (int i = 0; i < 90; ++i)
      for (double k : {0.3, 0.99, 1.01, 1.3}) {
        const double t = 0.02 + i * M_PI / 45;
        Point p = out.forward({k * radius * std::cos(t), k * radius * std::sin(t)});
        bool inside = false;
        for (double turn : {-360.0, 0.0, 360.0}) inside = inside || contains(a.shape(), {p.x + turn, p.y});
        EXPECT_EQ(inside, k < 1) << text << " at " << p.x << ", " << p.y;
      }
  }
}

TEST(Area, HalvesOnBothSidesOfTheAntimeridianLieTogether) {
  const MultiPolygon halves{to_polygon({179, -18, 180, -17}), to_polygon({-180, -18, -179, -17})};
  const Bounds b = bounds_of(joined_across_antimeridian(halves));
  EXPECT_DOUBLE_EQ(b.width(), 2);
  const MultiPolygon apart{to_polygon({-10, 0, 10, 1}), to_polygon({100, 0, 101, 1})};
  EXPECT_EQ(bounds_of(joined_across_antimeridian(apart)), bounds_of(apart));
}

TEST(Area, OutlinesKeepTheirShapeAroundAPole) {
  // The parallel of 60 degrees is a circle on a polar map; between 32 points it was cut short by 16 km.
  const Crs polar = Crs::parse("EPSG:3995");
  const Area cap = Area::box({-180, 60, 180, 90});
  const double r = std::hypot(Transform(Crs::wgs84(), polar).forward({13, 60}).x,
                              Transform(Crs::wgs84(), polar).forward({13, 60}).y);
  EXPECT_NEAR(planar_area(cap.in(polar).shape()) / (M_PI * r * r), 1, 1e-5);
}

TEST(Geometry, OverlayOfBoxes) {
  const MultiPolygon a{to_polygon({0, 0, 4, 4})}, b{to_polygon({2, 2, 6, 6})};
  EXPECT_DOUBLE_EQ(planar_area(overlay(a, b, Overlay::Union)), 28);
  EXPECT_DOUBLE_EQ(planar_area(overlay(a, b, Overlay::Intersection)), 4);
  EXPECT_DOUBLE_EQ(planar_area(overlay(a, b, Overlay::Difference)), 12);
  EXPECT_DOUBLE_EQ(planar_area(overlay(a, a, Overlay::Difference)), 0);
}

TEST(Geometry, AreaKeepsItsDigitsFarFromTheOrigin) {
  EXPECT_DOUBLE_EQ(planar_area({to_polygon({676000.25, 5842000.25, 676000.5, 5842000.75})}), 0.125);
}

TEST(Geometry, ContainsRespectsHoles) {
  Polygon p = to_polygon({0, 0, 10, 10});
  p.holes.push_back(to_polygon({4, 4, 6, 6}).outer);
  EXPECT_TRUE(contains({p}, {1, 1}));
  EXPECT_FALSE(contains({p}, {5, 5}));
  EXPECT_FALSE(contains({p}, {11, 5}));
}

TEST(Area, BoxesAndCirclesFromText) {
  const Area box = parse_area("box:-31.05,-37.60,-30.95,-37.50");
  EXPECT_DOUBLE_EQ(box.bounds().west, -31.05);
  EXPECT_EQ(box.utm().epsg(), 32725);
  EXPECT_EQ(parse_area("box:31°3'W,37°36'S,30°57'W,37°30'S").bounds(), box.bounds());
  const Area utm = parse_area("box:676000,5841000,677000,5842000@EPSG:32725");
  EXPECT_NEAR(utm.ground_area(), 1e6, 200);
  const Area circle = parse_area("circle:-31,-37.55,500m");
  // 128 sides instead of a circle.
  EXPECT_NEAR(circle.ground_area(), std::numbers::pi * 500 * 500, 400);
  EXPECT_NEAR(box.grown(100_m).ground_area() - box.ground_area(), 100 * 2 * (8840 + 11098) + std::numbers::pi * 1e4,
              2e4);
}

TEST(Area, NonsenseIsRefused) {
  for (const char* bad : {"box:1,2,3", "box:3,2,1,4", "box:1,2,x,4", "circle:0,0", "circle:0,0,-5m",
                          "box:500000,0,500100,100", "square:1,2,3,4", "box:1,2,3,4@EPSG:1"})
    EXPECT_EQ(error_of([&] { parse_area(bad); }), ErrorCode::BadArgument) << bad;
  // The usual mistake: metres, and nothing said of which system.
  std::string text;
  for (const char* metres : {"box:600000,5890000,610000,5893000", "circle:600000,5890000,500m"}) {
    EXPECT_EQ(error_of([&] { parse_area(metres); }, &text), ErrorCode::BadArgument);
    EXPECT_NE(text.find("600000 is too much for degrees"), std::string::npos) << text;
    EXPECT_NE(text.find("with @CRS"), std::string::npos) << text;
  }
}

TEST(AreaText, AnyOrderThatCanBeToldApart) {
  const Bounds box{-31.05, -37.6, -30.95, -37.5};
  std::vector<std::string> notes;
  for (const char* text : {"box:31°3'W,37°36'S,30°57'W,37°30'S", "box:37°36'S,31°3'W,37°30'S,30°57'W",
                           "box:37°30'S,30°57'W,37°36'S,31°3'W", "box:37°36'S,37°30'S,31°3'W,30°57'W",
                           "box:31°3'W,30°57'W,37°36'S,37°30'S", "box:31 3 0 W,37 36 S,30 57 W,37 30 S"}) {
    const Bounds b = parse_area(text, &notes).bounds();
    EXPECT_NEAR(b.west, box.west, 1e-12) << text;
    EXPECT_NEAR(b.south, box.south, 1e-12) << text;
    EXPECT_NEAR(b.east, box.east, 1e-12) << text;
    EXPECT_NEAR(b.north, box.north, 1e-12) << text;
  }
  EXPECT_EQ(notes.size(), 4u) << "those that were not in the usual order";
  // A number that no latitude has tells the order.
  EXPECT_EQ(parse_area("box:-37.6,131,-37.5,131.1").bounds(), (Bounds{131, -37.6, 131.1, -37.5}));
  const Point a = parse_area("circle:37°33'S,31°W,500m").centre_lonlat(),
              b = parse_area("circle:-37.55,131,1km").centre_lonlat();
  EXPECT_NEAR(a.x, -31, 1e-9);
  EXPECT_NEAR(a.y, -37.55, 1e-6);
  EXPECT_NEAR(b.x, 131, 1e-9);
  for (const char* bad : {"circle:31W,30W,5m", "box:1N,2N,3N,4N", "circle:95,131,5m", "box:-30.95,-37.6,-31.05,-37.5"})
    EXPECT_EQ(error_of([&] { parse_area(bad); }), ErrorCode::BadArgument) << bad;
}

TEST(AreaText, AcrossTheAntimeridian) {
  EXPECT_EQ(parse_area("box:179,-17,-178,-16").bounds(), (Bounds{179, -17, 182, -16}));
  EXPECT_EQ(parse_area("box:17S,178W,16S,179E").bounds(), (Bounds{179, -17, 182, -16}));
  const MultiPolygon cut = {to_polygon(Bounds{179, 0, 180, 1}), to_polygon(Bounds{-180, 0, -179, 1})};
  EXPECT_EQ(bounds_of(told_around(cut, 180)), (Bounds{179, 0, 181, 1}));
  EXPECT_EQ(bounds_of(told_around(cut, -180)), (Bounds{-181, 0, -179, 1}));
  const MultiPolygon again = cut_at_antimeridian({to_polygon(Bounds{179, 0, 181, 1})});
  ASSERT_EQ(again.size(), 2u);
  EXPECT_EQ(bounds_of(again), (Bounds{-180, 0, 180, 1}));
  EXPECT_DOUBLE_EQ(planar_area(again), 2);
  EXPECT_EQ(bounds_of(told_around(again, 180)), (Bounds{179, 0, 181, 1}));
}

TEST(Faces, AreAllPiecesWithTheirOwners) {
  // Two squares that overlap: three pieces; a third inside a hole of nothing.
  const std::vector<MultiPolygon> shapes = {
      {to_polygon(Bounds{0, 0, 2, 2})}, {to_polygon(Bounds{1, 0, 3, 2})}, {to_polygon(Bounds{5, 5, 6, 6})}};
  const auto faces = faces_of(shapes);
  ASSERT_EQ(faces.size(), 4u);
  double sum = 0;
  std::size_t both = 0;
  for (const Face& f : faces) {
    sum += planar_area(f.shape);
    both += f.in.size() == 2;
  }
  EXPECT_DOUBLE_EQ(sum, 7);
  EXPECT_EQ(both, 1u);
}

}  // namespace
}  // namespace katoptra
