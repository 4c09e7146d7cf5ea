#include "cluster.hpp"

#include <mpi.h>

#include "first.hpp"
#include "helper.hpp"

namespace katoptra {

Cluster::Cluster(int& argc, char**& argv) {
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
