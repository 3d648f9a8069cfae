// A sweep's return taken apart: the steady response of the wanted line and of each image, over the whole band.
//
// Every component is the sweep moved by a distance of its own and passed through a filter of its own. Dividing the
// return's spectrum by the sweep's (Farina 2000) gives that filter's impulse response in one place and everything else
// as a chirp across it: the response is what stands within a gate around its middle. One component after the other is
// taken out of the return, several times over, so that none is read in another's place. What a filter does is then told
// as a steady tone tells it, however steep it is and however fast the sweep. Inside core/probes only.
#pragma once
#include <complex>
#include <vector>

#include "core/probes/probe.hpp"
#include "core/probes/sweep_taps.hpp"

namespace heathmist {

struct SweepResponse {
  int image = 0;                            ///< the multiple of the source's rate it lies apart from the wanted line
  std::vector<std::complex<double>> value;  ///< by bins of SweepResponses; 1: as loud as what went in
  double size = 0;                          ///< where it is strong: nine tenths of its band lie under this
  bool there = true;                        ///< not: its size is under -150 dB
};

struct SweepResponses {
  double gate_s = 0;                 ///< so far either way a response may ring
  double bin_hz = 1;                 ///< of the probe's time
  std::vector<SweepResponse> told;   ///< the images asked for, in their order
  std::shared_ptr<const Clip> rest;  ///< the return's body without them, one channel
  double rest_at_s = 0;              ///< where the rest's first frame lies in the return
  SweepBody wanted;                  ///< the body without the images alone
};

/// Throws InputError, Cancelled.
SweepResponses sweep_responses(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, int channel,
                               const std::vector<int>& images, const Job& job = {});

}  // namespace heathmist
