// Clips the Spectrum view has opened, kept for every run of its task. Inside app/views/spectrum only.
#pragma once
#include <algorithm>
#include <mutex>

#include "app/pages/spectrum/spectrum_view.hpp"
#include "core/audio/fingerprint.hpp"
#include "core/bench/armed.hpp"
#include "core/measure/spectrogram_tiles.hpp"
#include "core/stages/returns.hpp"
#include "core/store.hpp"

namespace heathmist::app {

struct SpectrumView::Opened {
  std::mutex lock;
  static constexpr size_t most_bytes = size_t(2) << 30;     // on disk, where they were decoded or made
  Store<std::shared_ptr<const Clip>> clips{most_bytes, 4};  // by what was read: the file, and the chain with its files
  std::map<std::weak_ptr<const Clip>, int, std::owner_less<>> serials;
  SpectrogramTiles tiles;

  /// Stands for a clip as long as it is the same one.
  std::string name_of(const std::shared_ptr<const Clip>& clip) {
    std::scoped_lock held(lock);
    return std::to_string(serials.emplace(clip, int(serials.size())).first->second);
  }

  /// All that these options ask for is worked out already.
  bool has(const std::vector<std::shared_ptr<const Clip>>& all, const SpectrogramOptions& options) {
    return std::all_of(all.begin(), all.end(),
                       [&](const auto& clip) { return tiles.at_hand(*clip, name_of(clip), options); });
  }

  std::shared_ptr<const Clip> open(const Subject& subject, const Job& job) {
    if (subject.clip) return subject.clip;
    const std::string key = subject.file.native() + "|" + fingerprint(subject.file) +
                            (subject.chain ? chain_fingerprint(*subject.chain) : std::string());
    {
      std::scoped_lock held(lock);
      if (const auto kept = clips.find(key)) return *kept;
    }
    auto clip = Clip::open(subject.file, job);
    if (subject.chain) clip = pass(clip, *subject.chain, job, {grant_here()}).ret;
    std::scoped_lock held(lock);
    clips.keep(key, clip, size_t(clip->format().frames) * size_t(clip->format().channels) * sizeof(double));
    return clip;
  }
};

}  // namespace heathmist::app
