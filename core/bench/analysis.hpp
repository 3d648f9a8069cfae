// What becomes of a trial: its files opened, its return made, laid on its master, nulled, explained.
//
// One service for the window and the command line. Every step is kept by the content of what went into it, so that it
// is done again where an input changed, and only there: an undo, another hold or floor, a file that came back cost what
// they change and no more.
#pragma once
#include "core/bench/document.hpp"
#include "core/compare/explain.hpp"
#include "core/stages/returns.hpp"
#include "core/store.hpp"

namespace heathmist {

struct AnalysisInput {
  std::filesystem::path master, ret;  ///< `ret`: where no chain makes it
  std::optional<Chain> chain{};
  FitHold hold{};    ///< by hand, over what was measured
  FitOptions fit{};  ///< how it is measured
  std::optional<Floor> floor{};
};

/// Immutable: nothing is written into a report once it is here.
struct AnalysisResult {
  std::string master_print, ret_print;  ///< fingerprints of the files as they were opened; of a chain its own
  std::shared_ptr<const Clip> master, ret;
  std::vector<StageReport> stages;  ///< of the chain that made the return
  size_t disarmed = 0;              ///< of its stages, as it was made
  Comparable pair;
  Fit measured;  ///< the fit before anything was held
  std::shared_ptr<const NullReport> report;
  std::shared_ptr<const Explanation> why;  ///< none: not explained yet
};

/// Not to be shared by threads.
class Analysis {
 public:
  static constexpr size_t usual_bytes = size_t(192) << 20;
  explicit Analysis(size_t most_bytes = usual_bytes) : done_(most_bytes) {}

  /// Up to the null. Throws InputError, which names the stage where a chain failed, and Cancelled.
  AnalysisResult null(const AnalysisInput& input, const Grant& grant, const Job& job = {});
  /// The same with its explanation. Throws InputError where the floor cannot be read, and Cancelled.
  AnalysisResult explained(const AnalysisInput& input, const AnalysisResult& null, const Job& job = {});

  /// How often each step was done, and not found kept.
  struct Steps {
    int opened = 0, compared = 0, nulled = 0, explained = 0;
    bool operator==(const Steps&) const = default;
  };
  const Steps& steps() const { return steps_; }

 private:
  static constexpr size_t most_clip_bytes = size_t(2) << 30;  // on disk, where they were decoded
  struct Opened {
    std::string print;
    std::shared_ptr<const Clip> clip;
  };
  struct Done {
    std::shared_ptr<const NullReport> report;
    std::shared_ptr<const Explanation> why;
    Fit measured;
  };
  Opened open(const std::filesystem::path& file, const Job& job);
  void keep(const std::string& key, const AnalysisInput& input, const AnalysisResult& result);
  Comparable comparable_of(const AnalysisInput& input, const AnalysisResult& result, const std::string& key,
                           const Job& job);
  Fit fit_of(const AnalysisInput& input, const AnalysisResult& result, const std::string& key, const Job& job);
  Spectrum spectrum_of(const Floor& floor, const NullReport& report, const Job& job);
  Steps steps_;
  Store<Opened> clips_{most_clip_bytes, 4};  // a trial and its floor, however long they are
  Returns returns_;
  Store<Comparable> pairs_{most_clip_bytes, 2};
  Store<Fit> fits_{1 << 20};
  Store<Done> done_;
};

/// About what a result holds in memory, beside its clips.
size_t bytes_of(const NullReport& report);
size_t bytes_of(const Explanation& why);

}  // namespace heathmist
