#include "core/devices/loop_check.hpp"

#include "core/audio/scratch.hpp"
#include "core/audio/temporary.hpp"
#include "core/printable.hpp"
#include "core/probes/probe.hpp"

namespace heathmist {

LoopCheck check_loop(const StreamOrder& stream, WordFormat word, const Job& job,
                     const std::function<void(const CaptureReading&)>& watch) {
  const auto score = probe_score("transit", stream.sample_rate_hz);
  const auto probe_word = word == WordFormat::pcm16 ? ProbeWord::pcm16 : ProbeWord::pcm24;
  const TemporaryFolder folder;
  CapturePlan plan{.stream = stream, .word = word, .to = Destination(folder.path() / "loop.wav")};
  plan.play = made_clip(sound_of(score, probe_word), stream.sample_rate_hz, "the transit probe");
  LoopCheck check;
  check.captured = capture(plan, job.part(0, 0.9), watch);
  if (!check.captured.cut_short.empty()) throw DeviceError(check.captured.cut_short);
  job.check();
  try {
    check.reading = read_probe(*Clip::open(check.captured.file), "transit", 0, job.part(0.9, 1));
  } catch (const InputError&) {
    throw DeviceError(
        printable(stream.input) +
        ": the probe did not come back; look whether it is wired to what was played through, and the level");
  }
  return check;
}

}  // namespace heathmist
