// Passes over the points of a cloud, of which each process that shares work makes a part.
#pragma once
#include <algorithm>
#include <cstddef>
#include <memory>
#include <utility>
#include <vector>

#include "katoptra/points/points.hpp"

#include "base/pool.hpp"
#include "base/shared_parts.hpp"
#include "spill.hpp"

namespace katoptra {

// Parts of a cloud that are read one after the other, and told together.
struct PartGroups {
  std::size_t parts, size, count;

  explicit PartGroups(const PointCloud& cloud)
      : parts(cloud.parts()),
        size(work_is_shared() ? std::clamp<std::size_t>(parts / 256, 1, 16) : 1),
        count((parts + size - 1) / size) {}
  std::size_t begin(std::size_t group) const { return group * size; }
  std::size_t end(std::size_t group) const { return std::min(parts, (group + 1) * size); }
};

// `look(part, batch, told)` adds to what is told of a group of parts, a type that names its fields (base/packed.hpp);
// `take(told)` gets it in every process, in the order of the parts.
template <class Told, class Look, class Take>
void share_points(const PointCloud& cloud, PointFields fields, const RunOptions& run, const Look& look,
                  const Take& take) {
  const PartGroups groups(cloud);
  Pool<PointBatch> batches;
  share_parts<Told>(
      groups.count, run,
      [&](std::size_t g) {
        Told told;
        PointBatch batch = batches.take([] { return PointBatch(); });
        for (std::size_t i = groups.begin(g); i < groups.end(g); ++i) {
          cloud.read(i, fields, batch);
          look(i, batch, told);
        }
        batches.give(std::move(batch));
        return told;
      },
      [&](std::size_t, const Told& told) { take(told); });
}

template <class T, class Told>
struct SortedGroup {
  typename Heaps<T>::Written written;
  std::vector<Told> told;
  template <class Fields>
  void fields(Fields& f) {
    f(written, told);
  }
};

// Points put into heaps, which are empty: `sort(part, batch, into)` fills a HeapBatch and gives what else is told of
// that part, which `take` gets in the order of the parts. The heaps are those of a folder that the processes have in
// common, if they share this work.
template <class T, class Told, class Sort, class Take>
void sort_points(const PointCloud& cloud, const RunOptions& run, Heaps<T>& heaps, const Sort& sort, const Take& take) {
  struct Part {
    HeapBatch<T> batch;
    Told told;
  };
  const bool is_shared = work_is_shared();
  if (is_shared) {
    const PartGroups groups(cloud);
    Pool<PointBatch> batches;
    share_parts<SortedGroup<T, Told>>(
        groups.count, run,
        [&](std::size_t g) {
          SortedGroup<T, Told> made;
          std::vector<HeapBatch<T>> sorted;
          PointBatch batch = batches.take([] { return PointBatch(); });
          for (std::size_t i = groups.begin(g); i < groups.end(g); ++i) {
            cloud.read(i, PointFields::None, batch);
            made.told.push_back(sort(i, batch, sorted.emplace_back()));
          }
          batches.give(std::move(batch));
          made.written = heaps.write(sorted);
          return made;
        },
        [&](std::size_t, const SortedGroup<T, Told>& g) {
          if (heaps.is_shared()) heaps.add(g.written);
          for (const Told& t : g.told) take(t);
        },
        !heaps.is_shared());
    if (heaps.is_shared()) return;
  }
  map_points(
      cloud, PointFields::None, run,
      [&](std::size_t i, PointBatch& b) -> std::shared_ptr<void> {
        auto made = std::make_shared<Part>();
        made->told = sort(i, b, made->batch);
        return made;
      },
      [&](std::shared_ptr<void> result) {
        const Part& made = *static_cast<const Part*>(result.get());
        heaps.add(made.batch);
        if (!is_shared) take(made.told);
      });
}

// The same where nothing else is told: `sort` gives nothing.
template <class T, class Sort>
void sort_points(const PointCloud& cloud, const RunOptions& run, Heaps<T>& heaps, const Sort& sort) {
  sort_points<T, char>(
      cloud, run, heaps,
      [&](std::size_t part, const PointBatch& b, HeapBatch<T>& into) {
        sort(part, b, into);
        return char{};
      },
      [](char) {});
}

}  // namespace katoptra
