// Numbers as the findings write them.
#pragma once
#include <string>

namespace heathmist {

/// A number with a real minus sign, never "-0".
std::string number_text(double value, int decimals);
/// Decimals only where there is something to say: 2713, 2713.37, 0.0123.
std::string samples_text(double value);
/// 2713 samples late, 0.5 samples early, in place
std::string delay_text(double samples);
/// 13.4 dB under, 2.9 dB over: a level against another.
std::string over_text(double db);
/// 1:02.35
std::string clock_text(double seconds);
/// 90 Hz, 12.4 kHz
std::string hertz_text(double hz);
/// Truncated towards zero to 16 bits, no dither. `dither` by its name in JSON.
std::string word_length_text(bool truncated, bool towards_zero, int bits, const std::string& dither);
/// Codecs as people write them.
std::string codec_text(const std::string& codec);

}  // namespace heathmist
