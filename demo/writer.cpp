#include "demo/writer.hpp"

#include <algorithm>
#include <cmath>
#include <functional>

#include "core/audio/clip.hpp"
#include "core/audio/fingerprint.hpp"
#include "core/audio/scratch.hpp"
#include "core/audio/write.hpp"
#include "core/bench/marks.hpp"
#include "core/boards/matrix.hpp"
#include "core/dsp/biquad.hpp"
#include "core/dsp/interpolator.hpp"
#include "core/dsp/noise.hpp"
#include "core/engines/engine.hpp"
#include "core/hearing/ladder.hpp"
#include "core/stages/encoder.hpp"
#include "core/stages/returns.hpp"
#include "demo/pieces.hpp"

namespace heathmist::demo {

namespace {

using std::filesystem::path;

void write_sound(const path& file, const Planar& sound, int rate, WordFormat word) {
  ClipWriter out({file, true}, rate, sound.channels(), word);
  out.write(sound);
  out.finish();
}

/// A master leaves the studio without offset and infrasound: 12 dB an octave below 22 Hz.
void centre(Planar& sound, int rate) {
  for (int c = 0; c < sound.channels(); ++c) {
    auto pass = dsp::Biquad::high_pass(rate, 22);
    for (double& x : sound.channel(c)) x = pass.run(x);
  }
}

/// Through a desk's input transformer: bass turned in phase and slightly down, a little air, hum and noise.
Planar through_transformer(Planar sound, int rate) {
  dsp::Noise chance(77);
  for (int c = 0; c < sound.channels(); ++c) {
    auto bass = dsp::Biquad::high_pass(rate, 14, 0.6), air = dsp::Biquad::high_pass(rate, 9000, 0.6);
    int64_t n = 0;
    for (double& x : sound.channel(c)) {
      const double t = double(n++) / rate, turn = 2 * 3.14159265358979 * 50 * t;
      x = bass.run(x);
      x += 0.09 * air.run(x) + 2.5e-5 * std::sin(turn) + 1.4e-5 * std::sin(3 * turn) + 4e-6 * chance.gaussian();
    }
  }
  return sound;
}

/// A capture that lost its way twice: a hole of 35 ms at 12.3 s, and 480 samples gone at 31 s.
Planar stumbled(const Planar& sound, int rate) {
  const int64_t hole = int64_t(12.3 * rate), skip = int64_t(31.0 * rate), lost = 480;
  Planar out(sound.channels(), sound.frames() - lost);
  for (int c = 0; c < sound.channels(); ++c) {
    std::copy(sound.channel(c).begin(), sound.channel(c).begin() + skip, out.channel(c).begin());
    std::copy(sound.channel(c).begin() + skip + lost, sound.channel(c).end(), out.channel(c).begin() + skip);
    std::fill_n(out.channel(c).begin() + hole, int64_t(0.035 * rate), 0.0);
  }
  return out;
}

/// Word length by rounding with triangular dither, as a master leaves the studio.
void dither(Piece& piece, uint64_t seed) {
  dsp::Noise chance(seed);
  const double step = std::ldexp(1.0, 1 - piece.bits);
  for (int c = 0; c < piece.sound.channels(); ++c)
    for (double& x : piece.sound.channel(c))
      x = std::clamp(std::nearbyint(x / step + chance.triangular()) * step, -1.0, 1 - step);
}

Planar delayed(const Planar& in, double samples, double gain_db) {
  const auto whole = int64_t(std::floor(samples));
  const double fraction = samples - double(whole), gain = std::pow(10.0, gain_db / 20);
  Planar out(in.channels(), in.frames() + whole + 400);
  std::vector<double> padded(size_t(in.frames()) + 2 * dsp::Interpolator::taps);
  std::vector<double> moved(padded.size() - dsp::Interpolator::taps + 1);
  for (int c = 0; c < in.channels(); ++c) {
    std::fill(padded.begin(), padded.end(), 0.0);
    std::copy(in.channel(c).begin(), in.channel(c).end(), padded.begin() + dsp::Interpolator::taps);
    dsp::Interpolator::shift(padded, fraction > 0 ? 1 - fraction : 0, moved);
    const int64_t lead = dsp::Interpolator::taps - dsp::Interpolator::before - (fraction > 0 ? 1 : 0);
    for (size_t n = 0; n < moved.size(); ++n) {
      const int64_t place = int64_t(n) - lead + whole;
      if (place >= 0 && place < out.frames()) out.channel(c)[size_t(place)] = gain * moved[n];
    }
  }
  return out;
}

Planar scaled(Planar sound, double gain_db, double ceiling) {
  const double gain = std::pow(10.0, gain_db / 20);
  for (int c = 0; c < sound.channels(); ++c)
    for (double& x : sound.channel(c)) x = std::clamp(x * gain, -ceiling, ceiling);
  return sound;
}

Planar truncated(Planar sound, int bits) {
  const double step = std::ldexp(1.0, 1 - bits);
  for (int c = 0; c < sound.channels(); ++c)
    for (double& x : sound.channel(c)) x = std::floor(x / step) * step;
  return sound;
}

Planar turned(Planar sound) {
  for (int c = 0; c < sound.channels(); ++c)
    for (double& x : sound.channel(c)) x = -x;
  return sound;
}

Planar exchanged(const Planar& sound) {
  Planar out = sound;
  std::copy(sound.channel(0).begin(), sound.channel(0).end(), out.channel(1).begin());
  std::copy(sound.channel(1).begin(), sound.channel(1).end(), out.channel(0).begin());
  return out;
}

constexpr const char* bench_file = "curlew-hours.heathmist";

/// What the album's files are held against: a sheet's rules (docs/formats.md).
Json deliveries() {
  return {{"name", "Curlew Hours, deliveries"},
          {"container_bits", 24},
          {"integrated_lufs", {{"min", -21}, {"max", -14}}},
          {"true_peak_dbtp", {{"max", -1}}},
          {"clipped_runs", {{"max", 0}}},
          {"flat_tops", {{"max", 0}}},
          {"clicks", {{"max", 0}}},
          {"channel_delay_samples", {{"min", -1}, {"max", 1}}},
          {"lossy_origin", false},
          {"upsampled", false},
          {"file_name", "[a-z0-9-]+[.](wav|flac)"}};
}

/// The demo of an earlier run is there, and so is every file of it, as it was written.
bool has_every_file(const path& file) {
  try {
    const Bench bench = load_bench(file);
    for (const Master& m : bench.masters) {
      if (state_of(m.audio) != FileState::present) return false;
      for (const Trial& t : m.trials)
        if (!t.chain && state_of(t.ret) != FileState::present) return false;
    }
    for (const TestedEngine& e : bench.engines)
      for (const EngineRender& r : e.renders)
        if (!r.render.file.empty() && state_of(r.render) != FileState::present) return false;
    for (const FileRef& r : bench.responses)
      if (state_of(r) != FileState::present) return false;
    return !bench.masters.empty() && bench.settings.value("demo", 0) == version;
  } catch (const InputError&) {
    return false;
  }
}

class Writer {
 public:
  Writer(path folder, const Job& job) : folder_(std::move(folder)), job_(job) {
    std::filesystem::create_directories(folder_);
    try {
      anew_ = load_bench(folder_ / bench_file).settings.value("demo", 0) != version;
    } catch (const InputError&) {  // none there yet
    }
    bench_.name = "Curlew Hours";
    bench_.settings["demo"] = version;
    bench_.settings["sheet"] = {{"rules", deliveries()}};
  }

  void master(Piece& piece, uint64_t seed) {
    centre(piece.sound, piece.sample_rate_hz);
    dither(piece, seed);
    keep(piece.file, [&](const path& file) { write_sound(file, piece.sound, piece.sample_rate_hz, word(piece)); });
    Master m;
    m.id = std::string("master-") + path(piece.file).stem().string();
    m.name = piece.name;
    m.audio = {folder_ / piece.file, fingerprint(folder_ / piece.file)};
    bench_.masters.push_back(m);
  }

  void trial(const std::string& name, const std::string& file, const std::function<void(const path&)>& write) {
    keep(file, write);
    bench_.masters.back().trials.push_back(
        {"trial-" + path(file).stem().string(), name, {folder_ / file, fingerprint(folder_ / file)}, {}});
  }

  /// A trial whose return is made when it is looked at.
  void through(const std::string& id, const std::vector<Stage>& stages) {
    Trial trial{"trial-" + id, "", {}, {}};
    trial.chain = Chain{"", stages, 1};
    bench_.masters.back().trials.push_back(trial);
  }

  /// A stand-in that was asked for everything.
  void stand_in(const std::string& name, const std::string& key) {
    TestedEngine engine{"engine-" + key, name, key};
    for (const char* kind : {"transit", "gain", "pan", "crossfade", "trim"})
      engine.renders.push_back({"render-" + key + "-" + kind, kind, {}});
    bench_.engines.push_back(engine);
  }

  /// An engine with renders of its own: each as one of the stand-ins makes it.
  void own_engine(const std::string& name, const std::vector<std::pair<std::string, std::string>>& kinds_by) {
    TestedEngine engine{"engine-own", name};
    for (const auto& [kind, by] : kinds_by) {
      const std::string file = "mix-room-" + kind + ".wav";
      keep(file, [&](const path& f) { render(f, kind, by); });
      engine.renders.push_back({"render-own-" + kind, kind, {folder_ / file, fingerprint(folder_ / file)}});
    }
    bench_.engines.push_back(engine);
  }

  /// An impulse response, and its place on the page of them.
  void response(const std::string& file, int rate, const Planar& sound) {
    keep(file, [&](const path& f) { write_sound(f, sound, rate, WordFormat::pcm24); });
    bench_.responses.push_back({folder_ / file, fingerprint(folder_ / file)});
  }

  /// A blind test of a trial, answered by somebody who is right where `right` says so, as far as it goes.
  void blind(const std::string& trial, const BlindDesign& design, const std::string& chance,
             const std::vector<bool>& right) {
    const Trial* of = bench_.trial(trial);
    const auto content = of->chain ? chain_fingerprint(*of->chain) : of->ret.fingerprint;
    const Master* master = bench_.master_of(trial);
    BlindTest test = begin_blind_test(
        design, {{"the master", {}, master->audio.fingerprint}, {title_of(*of), trial, content}}, chance);
    test.id = "blind-" + trial, test.master = master->id, test.from_s = 12, test.until_s = 18;
    for (const bool r : right) {
      const int64_t at_ms = 1773482400000 + 21000 * int64_t(test.answers.size());
      const int truth = std::max(0, next_round(test).truth);
      answer(test, {.button = r ? truth : 1 - truth, .at_ms = at_ms, .took_s = 9.5 + double(test.answers.size() % 5)});
    }
    bench_.blind.push_back(std::move(test));
  }

  /// The threshold of a difference in level, found by somebody who begins to hear it about there.
  void threshold(const std::string& master_id, double heard_db, const std::string& chance) {
    Master* master = bench_.master(master_id);
    const auto ladder = make_ladder(*Clip::open(master->audio.file), 12, 18, {LadderOf::level});
    BlindDesign design{BlindMethod::threshold, 2, 16};
    design.rule.rungs = ladder.rungs.size(), design.ladder = ladder.design;
    const BlindStimulus reference{"the master", {}, master->audio.fingerprint};
    BlindTest test = begin_blind_test(design, stimuli_of(ladder, reference, reference), chance);
    test.id = "blind-level-" + master_id, test.master = master_id, test.from_s = 12, test.until_s = 18;
    dsp::Noise ear(11);
    while (!is_ended(test)) {
      const Round r = next_round(test);
      const double db = ladder.rungs[size_t(std::max(r.buttons[1], r.buttons[2])) - 1].value;
      const bool heard = ear.uniform() < 1 - 0.5 * std::exp2(-std::pow(db / heard_db, 3));
      const auto count = int64_t(test.answers.size());
      answer(test, {.button = heard ? r.truth : 3 - r.truth,
                    .at_ms = 1773486000000 + 9000 * count,
                    .took_s = 5.5 + double(count % 4)});
    }
    bench_.blind.push_back(std::move(test));
  }

  void mark(const std::string& trial, double at_s, std::optional<double> until_s, const std::string& text) {
    Master* master = bench_.master_of(trial);
    put_mark(*master, {"mark-" + std::to_string(++marks_), text, at_s, until_s, trial});
  }

  path finish() {
    bench_.chains = common_settings();
    const path file = folder_ / bench_file;
    save_bench(bench_, file);
    return file;
  }

  static WordFormat word(const Piece& piece) { return piece.bits == 16 ? WordFormat::pcm16 : WordFormat::pcm24; }

 private:
  /// Writes a file that is not there yet, or is of another version.
  void keep(const std::string& name, const std::function<void(const path&)>& write) {
    job_.check();
    if (anew_ || !std::filesystem::exists(folder_ / name)) write(folder_ / name);
  }
  static void render(const path& file, const std::string& kind, const std::string& by) {
    const ProbeScore score = probe_score(kind, 48000);
    for (const Engine& engine : known_engines()) {
      if (engine.key != by) continue;
      const auto made = perform(score, {made_clip(sound_of(score, ProbeWord::pcm24), 48000, kind)}, engine);
      ClipWriter out({file, true}, 48000, made->format().channels, WordFormat::pcm24);
      write_clip(out, *made, {});
      out.finish();
    }
  }

  path folder_;
  const Job& job_;
  int marks_ = 0;
  Bench bench_;
  bool anew_ = false;  // the files there are of another version
};

void write_mill_race(Writer& w) {
  Piece p = mill_race();
  w.master(p, 11);
  w.trial("Copy on the archive disk", "mill-race-archive.flac",
          [&](const path& f) { write_sound(f, p.sound, p.sample_rate_hz, WordFormat::pcm24); });
  w.trial("Desk bounce, late and down", "mill-race-bounce.wav",
          [&](const path& f) { write_sound(f, delayed(p.sound, 2713.37, -2.3), p.sample_rate_hz, WordFormat::pcm24); });
  w.trial("Pushed 4 dB, clipped", "mill-race-pushed.wav",
          [&](const path& f) { write_sound(f, scaled(p.sound, 4, 1 - 0x1p-23), p.sample_rate_hz, WordFormat::pcm24); });
  w.through("mill-race-small", {{"gain", {{"gain_db", -0.5}}}, {"codec", {{"codec", "aac"}, {"bit_rate_kbps", 128}}}});
}

void write_slack_water(Writer& w) {
  Piece p = slack_water();
  w.master(p, 12);
  w.trial("16 bit, no dither", "slack-water-16.wav",
          [&](const path& f) { write_sound(f, truncated(p.sound, 16), p.sample_rate_hz, WordFormat::pcm16); });
  w.trial("Channels swapped", "slack-water-swapped.wav",
          [&](const path& f) { write_sound(f, exchanged(p.sound), p.sample_rate_hz, WordFormat::pcm24); });
  w.through("slack-water-cut", {{"word_length", {{"bits", 16}, {"shaping", "wannamaker_9"}}}});
}

void write_lantern_walk(Writer& w, const path& folder) {
  Piece p = lantern_walk(0);
  w.master(p, 13);
  w.trial("MP3 96 kbit/s", "lantern-walk-96.mp3", [&](const path& f) {
    encode(*Clip::open(folder / p.file), {"libmp3lame", 96000}, f);
  });
  w.trial("Another take", "lantern-walk-take-2.wav", [&](const path& f) {
    Piece other = lantern_walk(1);
    dither(other, 14);
    write_sound(f, other.sound, other.sample_rate_hz, WordFormat::pcm16);
  });
}

void write_spoken_tide(Writer& w) {
  Piece p = spoken_tide();
  w.master(p, 15);
  w.trial("Desk patch, polarity turned", "spoken-tide-turned.wav",
          [&](const path& f) { write_sound(f, turned(p.sound), p.sample_rate_hz, WordFormat::pcm24); });
  w.trial("Through the transformer desk", "spoken-tide-transformer.wav", [&](const path& f) {
    write_sound(f, through_transformer(p.sound, p.sample_rate_hz), p.sample_rate_hz, WordFormat::pcm24);
  });
  w.trial("Captured stream", "spoken-tide-stream.wav", [&](const path& f) {
    write_sound(f, stumbled(p.sound, p.sample_rate_hz), p.sample_rate_hz, WordFormat::pcm24);
  });
}

void write_weir_by_lamplight(Writer& w) {
  Piece p = weir_by_lamplight();
  w.master(p, 16);
  w.through("weir-fine", {{"converter", {{"rate_hz", 44100}}}});
  w.through("weir-detour", {{"converter", {{"rate_hz", 44100}, {"by", "cubic"}}}, {"converter", {{"rate_hz", 96000}}}});
}

/// The floor of the mill, heard from close by and from afar: the sound itself, a dozen walls, and a tail that grows
/// duller as it goes.
Planar mill_floor(int rate, double direct, double far_s, double t60_s) {
  dsp::Noise chance(31);
  Planar out(2, int64_t((far_s + 1.25 * t60_s) * rate));
  const auto at = [&](double s) { return std::min(size_t(out.frames() - 1), size_t(std::lround(s * rate))); };
  for (int c = 0; c < 2; ++c) {
    out.channel(c)[at(far_s)] = direct;
    for (int wall = 1; wall <= 12; ++wall)
      out.channel(c)[at(far_s + 0.004 * wall * chance.between(0.8, 1.4))] +=
          0.25 * std::pow(0.8, wall) * (wall % 3 ? 1 : -1);
    double dull = 0;
    for (size_t n = at(far_s + 0.03); n < size_t(out.frames()); ++n) {
      const double s = double(n) / rate - far_s, share = std::min(0.9, 0.25 + 0.3 * s);
      dull += (1 - share) * (chance.gaussian() - dull);
      out.channel(c)[n] += 0.035 * dull * std::pow(10, -3 * s / t60_s);
    }
  }
  return out;
}

void write_responses(Writer& w) {
  w.response("mill-floor-close.wav", 48000, mill_floor(48000, 0.9, 0.004, 1.1));
  w.response("mill-floor-distant.wav", 48000, mill_floor(48000, 0.3, 0.021, 1.4));
  w.response("mill-floor-distant-96.wav", 96000, mill_floor(96000, 0.3, 0.021, 1.4));
}

/// Three engines that were asked already: two stand-ins, and one whose renders lie there as if they had been made by
/// hand.
void write_engines(Writer& w) {
  w.stand_in("Alder", "alder");
  w.stand_in("Birch", "birch");
  w.own_engine("The mix room", {{"transit", "rowan"}, {"gain", "hazel"}, {"pan", "rowan"}});
}

/// One blind test that was answered to its end, and one that waits to be gone on with.
void write_blind_tests(Writer& w) {
  w.blind("trial-mill-race-pushed", {BlindMethod::abx, 2, 16}, "5b1e0c94d27fa683906e1f4bb82d57ca3f60d9e8147ab25c",
          {true, true, false, true, true, true, true, true, false, true, true, true, true, true, false, true});
  w.blind("trial-slack-water-16", {BlindMethod::abx, 2, 12}, "c07d93e2514f8ab6e3195d80f2a74c1b6d9e02f785a3b14c",
          {true, false, false, true, true});
  w.threshold("master-mill-race", 0.5, "8e21f7a04c9b635d17f30b8a52c6e94d0a7b3f6815d2c94e");
}

void write_marks(Writer& w) {
  w.mark("trial-mill-race-pushed", 9.2, {}, "the wheel comes in");
  w.mark("trial-mill-race-pushed", 12, 18, "listened to blind");
}

}  // namespace

path bench_in(const path& folder) { return folder / bench_file; }
bool is_whole(const path& folder) { return has_every_file(bench_in(folder)); }

path write_demo(const path& folder, const Job& job) {
  if (is_whole(folder)) return bench_in(folder);
  Writer w(folder, job);
  const std::function<void()> parts[] = {[&] { write_mill_race(w); },
                                         [&] { write_slack_water(w); },
                                         [&] { write_lantern_walk(w, folder); },
                                         [&] { write_spoken_tide(w); },
                                         [&] { write_weir_by_lamplight(w); },
                                         [&] { write_engines(w); },
                                         [&] { write_responses(w); },
                                         [&] { write_blind_tests(w), write_marks(w); }};
  for (size_t n = 0; n < std::size(parts); ++n) {
    parts[n]();
    job.check();
    job.report(double(n + 1) / double(std::size(parts)));
  }
  return w.finish();
}

}  // namespace heathmist::demo
