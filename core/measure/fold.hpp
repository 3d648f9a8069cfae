// Where frequencies land when a signal is sampled anew, and what a line may have been before.
//
// A tone of f in a clip sampled at `from_hz` stands for all of its images, |k from + f| and |k from - f|. A converter
// should let pass the tone alone; what it lets pass of the images, or of a tone above half the new rate, folds about
// multiples of half the new rate. Frequencies in Hz.
#pragma once
#include <optional>
#include <vector>

namespace heathmist {

/// Where `hz` lies after sampling at `rate_hz`: in [0, rate/2].
double folded_hz(double hz, double rate_hz);

struct Landing {
  int image = 0;         ///< k: 0 is the tone itself, -2 is |f - 2 from|
  double before_hz = 0;  ///< of the image, before the new sampling
  double out_hz = 0;     ///< where it lands
  bool folded() const { return before_hz != out_hz; }
};
/// The tone and its images up to `images` either way, lowest image first. No two land at the same place for all tones:
/// of those that do the lowest stands for all.
std::vector<Landing> landings(double in_hz, double from_hz, double to_hz, int images = 4);

/// Every tone of a source, from 0 to half its rate, that lands at `out_hz` by itself or by an image: lowest image
/// first.
struct LandingFrom {
  double in_hz = 0;
  Landing landing;
};
std::vector<LandingFrom> sources_of(double out_hz, double from_hz, double to_hz, int images = 2);

/// Where a source's tones land, drawn: for each image a line from 0 to half the source's rate.
struct FoldLine {
  int image = 0;
  std::vector<double> in_hz, out_hz;
};
std::vector<FoldLine> fold_lines(double from_hz, double to_hz, int images = 2, int points = 400);

/// The multiples k of `from_hz` whose images do not fall on those of a lower one for every tone: 0, -1, 1, -2 ...
std::vector<int> distinct_images(double from_hz, double to_hz, int images = 4);

}  // namespace heathmist
