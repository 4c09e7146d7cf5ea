#include <cstdio>
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/surface/mosaic.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/terrain/derivatives.hpp"
#include "katoptra/base/error.hpp"
using namespace katoptra;
int main(){ 
  Frame f(Crs::parse("EPSG:32725+3855").with_heights({}), 500000, 5844000, {1,1}, 1300, 900);
  Quantity q; q.heights=HeightReference::parse("EGM2008"); q.unit_known=true;
  Grid g = grid_from_function(f,[](double x,double y){return 50*std::sin((x-500000)/100)+40*std::cos((y-5844000)/130)+100;},q);
  try {
  auto r=write_grid(g,"/tmp/a.tif",{.overwrite=true});
  Frame f2(Crs::parse("EPSG:32725"), 501000, 5843900, {1,1}, 700, 600);
  write_grid(grid_from_function(f2,[](double x,double y){return 50*std::sin((x-500000)/100)+40*std::cos((y-5844000)/130)+100.5;},q),"/tmp/b.tif",{.overwrite=true,.date="2022-01-05"});
  Grid m = mosaic({open_grid("/tmp/a.tif"),open_grid("/tmp/b.tif")},{.feather=20_m});
  Frame ll = frame_for(m.frame(), Crs::wgs84());
  auto w = write_grid(hillshade(reproject(m,ll)),"/tmp/c.tif",{.overwrite=true,.lineage=true});
  printf("%zu %g %g %lld %lld\n",size_t(w.bytes),w.lowest,w.highest,0ll,0ll);
  write_grid(hillshade(m),"/tmp/d.tif",{.overwrite=true});
  for(auto&n: m.info().notes) puts(n.c_str());
  } catch (const Error& e){puts(e.what());}
}
