// Clips the Spectrum view has opened, kept for every run of its task. Inside app/views/spectrum only.
#pragma once
#include <algorithm>
#include <mutex>

#include "app/pages/spectrum/spectrum_view.hpp"
#include "core/audio/fingerprint.hpp"
#include "core/bench/armed.hpp"
#include "core/measure/spectrogram_tiles.hpp"
#include "core/stages/returns.hpp"

namespace heathmist::app {

struct SpectrumView::Opened {
  std::mutex lock;
  struct Held {
    std::string print;  ///< of what was read: the file, and the chain with its files
    std::shared_ptr<const Clip> clip;
  };
  std::map<std::string, Held> clips;  // by file and chain
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
    std::string key = subject.file.string();
    if (subject.chain) key += text_of(chain_json(*subject.chain), -1);
    const std::string print =
        fingerprint(subject.file) + (subject.chain ? chain_fingerprint(*subject.chain) : std::string());
    {
      std::scoped_lock held(lock);
      if (const auto it = clips.find(key); it != clips.end() && it->second.print == print) return it->second.clip;
    }
    auto clip = Clip::open(subject.file, job);
    if (subject.chain) clip = pass(clip, *subject.chain, job, {grant_here()}).ret;
    std::scoped_lock held(lock);
    clips[key] = {print, clip};
    return clip;
  }
};

}  // namespace heathmist::app
