// One reader a format. format_table.cpp chooses by content, grid_file.cpp completes what all have in common.
#pragma once
#include <array>
#include <memory>
#include <optional>
#include <span>

#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/surface/reproject.hpp"

#include "formats/bytes/located.hpp"

namespace katoptra {

// Each gives the grid and the facts of the file itself; the caller adds what lies beside it, name, date and assigned
// references.
GridFile open_tiff(const Located& file, const OpenOptions& options);
GridFile open_hgt(const Located& file);
GridFile open_dted(const Located& file);
GridFile open_ascii_grid(const Located& file);
GridFile open_flat(const Located& file, const OpenOptions& options);
GridFile open_netcdf(const Located& file, const OpenOptions& options);
GridFile open_bag(const Located& file, const OpenOptions& options);
GridFile open_s102(const Located& file, const OpenOptions& options);
GridFile open_coverage(const Located& file, const OpenOptions& options);
GridFile open_xyz(const Located& file, const OpenOptions& options);

// open_grid_file for a file that was found already, under the name `path`; its lineage is not looked for.
GridFile open_grid_file(const Located& located, const std::filesystem::path& path, const OpenOptions& options);

// CRS, vertical reference, unit, date and survey from what lies beside a file, then what was assigned; true when what
// lies beside it says that its values are depths.
bool complete_references(const Located& located, GridInfo& info, FileFacts& facts, const OpenOptions& options);
// The day a file on the disk was last changed (ISO); empty when that is not known.
std::string file_date(const std::filesystem::path& path);

bool is_tiff(std::span<const std::uint8_t> head);
// "S38W032.hgt" and the like.
bool is_hgt_name(const std::string& name);
bool is_dted(std::span<const std::uint8_t> head);
// Text that begins with the keywords of an ASCII grid.
bool is_ascii_grid(std::span<const std::uint8_t> head);
// A header of a flat binary file lies beside it, or the file is that header itself.
bool is_flat(const Located& file);
// Lines of at least three numbers.
bool is_xyz(std::span<const std::uint8_t> head);
// A GeoPackage that holds gridded coverages.
bool is_coverage(const Located& file, std::span<const std::uint8_t> head);
bool is_hdf5(std::span<const std::uint8_t> head);
bool is_netcdf_classic(std::span<const std::uint8_t> head);

// What a file says that values other than heights are counted in: lengths by their unit, all else by its name.
void use_unit(Quantity& q, const std::string& unit);
// The band that was asked for by number or name, from 0; the first without a wish. BadArgument when there is none such.
std::int64_t band_from(const OpenOptions& options, std::int64_t bands, const std::string& file);

// A frame with the rows of a file that may run from the south, and columns that may run from the east: cells of size
// |dx| x |dy| whose first one has its corner (or centre) at (x, y). `dy` is negative for rows that run north to south.
struct FileLattice {
  Crs crs;
  double x = 0, y = 0, dx = 1, dy = -1;
  std::int64_t cols = 0, rows = 0;
  bool centre = false;
  std::optional<SkewLattice> askew;  // of cells that do not lie along the axes; the rest but the counts is void then
  bool south_up() const { return dy > 0; }
  bool east_first() const { return dx < 0; }
  Frame frame() const;
};
// The lattice of a six-term transformation: x = t[0] col + t[1] row + t[2], y = t[3] col + t[4] row + t[5], from the
// outer corner of the first cell or from its centre. BadFile where its terms make no cells.
FileLattice lattice_of_terms(const std::array<double, 6>& t, bool centre, const std::string& file);
// A world file: cell, two terms of rotation, and the centre of the first cell; nothing for less than six numbers.
// Columns and rows are filled in by the caller.
std::optional<FileLattice> lattice_of_world_file(const std::string& text, const std::string& file);
// A grid whose rows and columns are in the order of the file, turned the right way round, or brought upright; says so
// in the notes.
Grid turned(const Grid& grid, const FileLattice& lattice);

}  // namespace katoptra
