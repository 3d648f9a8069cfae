// Where a return lies on its master: anchors that agree on one line of delay over time. Inside core/compare only.
#pragma once
#include <vector>

#include "core/compare/anchors.hpp"
#include "core/compare/fit.hpp"

namespace heathmist {

/// What is looked through, and what was found so far.
struct Search {
  const Clip& master;
  const Clip& ret;
  const FitOptions& options;
  const Job& job;

  std::vector<Anchor> anchors{};
  DelayLine line{};
  bool others_fit = false;
  bool return_is_one = false;
};

/// One way of looking at both clips: how their channels are mixed.
struct View {
  Mixture master, ret;
};
std::vector<View> views(int master_channels, int return_channels);

/// Looks for the delay in one view, and drift; true where enough anchors agree.
bool locate(Search& search, const View& view);

/// Keeps the anchors that lie on the line; all of them where the delay is held.
void keep_inliers(Search& search);

}  // namespace heathmist
