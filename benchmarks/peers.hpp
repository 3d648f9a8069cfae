// What the benchmarks are measured against: the plain way, with the same libraries, in one run.
#pragma once
#include <filesystem>

#include "core/stages/chain.hpp"

namespace heathmist::peers {

/// Null by the book: both files read whole, mixed to mono, one FFT cross-correlation over their whole length for the
/// delay, and a Welch spectrum of both (Hann, 16384 points, half overlap). Returns the delay in samples.
double whole_file_correlation(const std::filesystem::path& master, const std::filesystem::path& ret);

/// Reads a file from end to end with libsndfile and throws the samples away; returns their sum.
double plain_read(const std::filesystem::path& file);

/// libebur128 with everything it has (integrated, range, true peak), read with libsndfile; returns the integrated
/// value.
double witness_measure(const std::filesystem::path& file);

/// A programme of noise bursts, always the same, 24 bit; the copy is `delay` samples late with a little noise on
/// it.
void write_pair(const std::filesystem::path& master, const std::filesystem::path& ret, int rate_hz, double seconds,
                int delay, int channels = 2);

/// What a chain of one codec cannot do without: one encode and one decode, with a rate conversion where the codec
/// demands it. Nothing for chains without a codec.
void bare_encode_and_decode(const std::filesystem::path& master, const Chain& chain,
                            const std::filesystem::path& folder);

}  // namespace heathmist::peers
