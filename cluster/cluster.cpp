#include "cluster.hpp"

#include <cstdlib>
#include <mpi.h>
#include <string_view>
#include <utility>

#include "first.hpp"
#include "helper.hpp"

namespace katoptra {
namespace {

// Where all processes are on one machine Open MPI need not look for networks, which took a quarter of a second, nor for
// a way of a process into the memory of another, which containers forbid. Whoever sets these keeps what was set.
void stay_on_this_machine() {
#if defined(OMPI_MAJOR_VERSION) && OMPI_MAJOR_VERSION == 4
  const char *here = std::getenv("OMPI_COMM_WORLD_LOCAL_SIZE"), *all = std::getenv("OMPI_COMM_WORLD_SIZE");
  if (!here || !all || std::string_view(here) != all) return;
  for (const auto& [name, value] : {std::pair{"OMPI_MCA_pml", "ob1"}, std::pair{"OMPI_MCA_btl", "self,vader,tcp"},
                                    std::pair{"OMPI_MCA_btl_vader_single_copy_mechanism", "none"}})
    ::setenv(name, value, 0);
#endif
}

}  // namespace

Cluster::Cluster(int& argc, char**& argv) {
  stay_on_this_machine();
  int provided = 0;
  MPI_Init_thread(&argc, &argv, MPI_THREAD_FUNNELED, &provided);
  if (size() == 1) return;
  if (rank() == 0)
    first_ = std::make_unique<First>(size());
  else
    helper_ = std::make_unique<Helper>();
  use_ranks(this);
}

Cluster::~Cluster() {
  use_ranks(nullptr);
  MPI_Finalize();
}

int Cluster::rank() const {
  int r = 0;
  MPI_Comm_rank(MPI_COMM_WORLD, &r);
  return r;
}

int Cluster::size() const {
  int n = 1;
  MPI_Comm_size(MPI_COMM_WORLD, &n);
  return n;
}

bool Cluster::is_first() const { return !helper_; }

void Cluster::share(const SharedWork& work) {
  if (first_)
    first_->share(work);
  else
    helper_->share(work);
}

std::string Cluster::told() const { return first_ ? first_->told() : "one process"; }

int Cluster::leave(int status, const std::string& why) {
  if (first_) first_->leave();
  if (!helper_) return status;
  helper_->leave(why);
  helper_->wait();
  return 0;
}

}  // namespace katoptra
