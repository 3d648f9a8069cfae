// What is written and where: never over an input, never over a file unasked, whole or not at all; what killed runs
// leave behind; what of a name may be shown; what of the machine a stage may touch.
#include <fcntl.h>
#include <signal.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include <fstream>

#include "core/audio/fingerprint.hpp"
#include "core/audio/scratch.hpp"
#include "core/audio/temporary.hpp"
#include "core/bench/armed.hpp"
#include "core/bench/unsaved.hpp"
#include "core/printable.hpp"
#include "core/probes/probe.hpp"
#include "tests/support/stages.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

std::string content_of(const std::filesystem::path& file) {
  std::ifstream in(file, std::ios::binary);
  return {std::istreambuf_iterator<char>(in), {}};
}

template <class Error>
std::string sentence_of(const std::function<void()>& work) {
  try {
    work();
  } catch (const Error& error) {
    return error.what();
  }
  return {};
}

/// A process that did something and then was killed.
template <class Work>
pid_t killed_after(Work work) {
  const pid_t child = ::fork();
  if (child == 0) {
    work();
    ::raise(SIGKILL);
  }
  int status = 0;
  ::waitpid(child, &status, 0);
  return child;
}

}  // namespace

class TestFiles : public StageTest {
  Q_OBJECT

 private slots:
  void initTestCase() {
    qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str()));
    qputenv("XDG_CONFIG_HOME", QByteArray((folder_ / "config").c_str()));
  }

  /// By any name: another spelling, a symbolic link, a hard link, a link to a link.
  void an_input_is_never_an_output() {
    const auto input = folder_ / "in.wav";
    write_whole(input, "precious");
    std::filesystem::create_directories(folder_ / "sub");
    std::filesystem::create_symlink(input, folder_ / "soft");
    std::filesystem::create_symlink(folder_ / "soft", folder_ / "softer");
    std::filesystem::create_hard_link(input, folder_ / "hard.wav");
    for (const auto& name : {input, folder_ / "sub/../in.wav", folder_ / "./in.wav", folder_ / "soft",
                             folder_ / "softer", folder_ / "hard.wav"}) {
      const Destination to(name, true, {folder_ / "unrelated", input});
      const auto sentence = sentence_of<OutputRefused>([&] { write_whole(to, "x"); });
      QVERIFY2(sentence.find("never written over") != std::string::npos, name.c_str());
      QCOMPARE(content_of(input), std::string("precious"));
    }
  }

  void a_file_that_is_there_is_replaced_only_where_that_was_allowed() {
    const auto file = folder_ / "there.txt";
    write_whole(file, "old");
    QVERIFY(!sentence_of<OutputRefused>([&] { write_whole(file, "new"); }).empty());
    QCOMPARE(content_of(file), std::string("old"));
    ::chmod(file.c_str(), 0640);
    write_whole({file, true}, "new");
    QCOMPARE(content_of(file), std::string("new"));
    struct ::stat facts {};
    QVERIFY(::stat(file.c_str(), &facts) == 0 && (facts.st_mode & 0777) == 0640);  // its rights stay
    std::filesystem::create_symlink(file, folder_ / "link.txt");
    write_whole({folder_ / "link.txt", true}, "through");
    QVERIFY(std::filesystem::is_symlink(folder_ / "link.txt"));
    QCOMPARE(content_of(file), std::string("through"));
    AtomicFile late(folder_ / "late.txt");  // one comes there while it is written
    late.write("mine");
    write_whole(folder_ / "late.txt", "theirs");
    QVERIFY(!sentence_of<OutputRefused>([&] { late.commit(); }).empty());
    QCOMPARE(content_of(folder_ / "late.txt"), std::string("theirs"));
    for (const char* none : {"/dev/null", "/", ""})
      QVERIFY2(!sentence_of<OutputRefused>([&] { write_whole({none, true}, "x"); }).empty(), none);
  }

  void names_of_any_length_and_folders_that_lack() {
    const auto longest = folder_ / ("new/folder/" + std::string(251, 'x') + ".wav");
    save(longest, Planar(1, 10), 48000);
    QVERIFY(std::filesystem::exists(longest));
    QVERIFY(!sentence_of<InputError>([&] { write_whole("/dev/null/x", "x"); }).empty());
  }

  /// What a killed run leaves is swept by the next; what lives, is locked or is none of ours stays.
  void leftovers_of_killed_runs_are_swept() {
    const auto place = folder_ / "left";
    std::filesystem::create_directories(place);
    killed_after([&] {
      AtomicFile* never = new AtomicFile(place / "half.wav");
      never->write("half");
    });
    QCOMPARE(std::distance(std::filesystem::directory_iterator(place), {}), 1);
    QCOMPARE(sweep(place), 1);
    AtomicFile alive(place / "alive.wav");
    const auto stranger = place / "heathmist-notes.txt", numbered = place / "heathmist-7 of 9.wav";
    write_whole(stranger, "x");
    write_whole(numbered, "x");
    const pid_t gone = killed_after([] {});
    const auto elsewhere = place / ("heathmist-" + std::to_string(gone) + "-0.part");  // held on another machine
    write_whole(elsewhere, "x");
    const int lock = ::open(elsewhere.c_str(), O_RDONLY);
    ::flock(lock, LOCK_EX);
    QCOMPARE(sweep(place), 0);
    QVERIFY(std::filesystem::exists(alive.part()) && std::filesystem::exists(stranger) &&
            std::filesystem::exists(numbered) && std::filesystem::exists(elsewhere));
    ::close(lock);
    QCOMPARE(sweep(place), 1);
  }

  void temporary_folders_are_said_where_they_are_none() {
    const auto before = qgetenv("TMPDIR");
    qputenv("TMPDIR", "/nowhere/at/all");
    const auto sentence = sentence_of<InputError>([] { TemporaryFolder folder; });
    QVERIFY2(sentence.starts_with("/nowhere/at/all: TMPDIR points here"), sentence.c_str());
    qputenv("TMPDIR", QByteArray((folder_ / "").c_str()));
    std::filesystem::path made;
    {
      const TemporaryFolder folder;
      QVERIFY(std::filesystem::is_directory(made = folder.path()));
    }
    QVERIFY(!std::filesystem::exists(made));
    before.isNull() ? qunsetenv("TMPDIR") : qputenv("TMPDIR", before);
  }

  void what_is_shown_is_one_harmless_line() {
    QCOMPARE(printable("plain \xc3\xa4 \xe2\x82\xac"), std::string("plain \xc3\xa4 \xe2\x82\xac"));
    QCOMPARE(printable("a\x1b[31m\nb\r\t\x7f"), std::string("a\\x1b[31m\\nb\\r\\t\\x7f"));
    QCOMPARE(printable("caf\xe9.wav"), std::string("caf\xef\xbf\xbd.wav"));    // Latin-1
    QCOMPARE(printable("\xc0\xaf"), std::string("\xef\xbf\xbd\xef\xbf\xbd"));  // overlong
    QCOMPARE(printable("\xed\xa0\x80").find('\xed'), std::string::npos);       // a surrogate
    QCOMPARE(printable("gnp.\xe2\x80\xae"
                       "exe"),
             std::string("gnp.\\u202eexe"));                // turned round
    QCOMPARE(printable("\xc2\x9b"), std::string("\\x9b"));  // a control of one byte
    QVERIFY(is_utf8("\xf0\x9f\x8c\xb1") && !is_utf8("\xf5\x80\x80\x80") && !is_utf8("\xe2\x82"));
    dsp::Noise chance(4);
    for (int n = 0; n < 2000; ++n) {
      std::string bytes;
      for (int k = 0; k < 24; ++k) bytes += char(int(chance.between(0, 256)));
      const auto shown = printable(bytes);
      QVERIFY(is_utf8(shown));
      QVERIFY(std::none_of(shown.begin(), shown.end(), [](char c) { return uint8_t(c) < 0x20 || c == 0x7f; }));
      QCOMPARE(printable(shown), shown);
      QVERIFY(!text_of({{"name", bytes}}).empty());  // and never breaks an answer
    }
  }

  void json_is_read_to_a_depth_and_never_deeper() {
    const auto nested = [](int depth) { return std::string(size_t(depth), '[') + std::string(size_t(depth), ']'); };
    QVERIFY(json_from(nested(60)).is_array());
    QVERIFY(!sentence_of<JsonError>([&] { json_from(nested(200000)); }).empty());
    QVERIFY(!sentence_of<JsonError>([&] { json_from(std::string(300000, '[')); }).empty());
    QCOMPARE(sentence_of<JsonError>([] { json_from("{\n \"a\": 1,\n \"b\" 2}"); }),
             std::string("it is no JSON from line 3, column 6 on"));
    QVERIFY(!sentence_of<JsonError>([] { json_from("1e999999"); }).empty());
    for (const auto& text : {nested(200000), std::string("{\"stages\":") + nested(100000) + "}"}) {
      write_whole({folder_ / "deep.json", true}, text);
      QVERIFY(!sentence_of<InputError>([&] { load_chain(folder_ / "deep.json"); }).empty());
      QVERIFY(!sentence_of<InputError>([&] { load_bench(folder_ / "deep.json"); }).empty());
    }
  }

  /// Rates and channel counts that only damage gives, in files made by hand.
  void headers_beyond_any_audio_are_refused_by_name() {
    const auto wav = [&](const char* name, uint32_t rate, uint16_t channels) {
      std::string bytes = "RIFF....WAVEfmt ";
      auto put = [&](uint32_t value, int length) {
        for (int n = 0; n < length; ++n) bytes += char(value >> (8 * n));
      };
      put(16, 4), put(1, 2), put(channels, 2), put(rate, 4), put(rate * channels * 2, 4), put(channels * 2u, 2),
          put(16, 2);
      bytes += "data";
      put(uint32_t(channels) * 2 * 500, 4);
      bytes += std::string(size_t(channels) * 2 * 500, '\1');
      const auto size = uint32_t(bytes.size() - 8);
      for (size_t n = 0; n < 4; ++n) bytes[4 + n] = char(size >> (8 * n));
      write_whole({folder_ / name, true}, bytes);
      return folder_ / name;
    };
    for (const uint32_t rate : {0u, 1u, 2u, 7u, 999u, 1536001u, 2147483648u, 4294967295u}) {
      const auto file = wav("rate.wav", rate, 2);
      const auto sentence = sentence_of<InputError>([&] { Clip::open(file); });
      QVERIFY2(sentence.find("rate.wav: ") != std::string::npos, (std::to_string(rate) + " " + sentence).c_str());
    }
    for (const uint16_t channels : {65, 1024, 20000})
      QVERIFY(!sentence_of<InputError>([&] { Clip::open(wav("channels.wav", 48000, channels)); }).empty());
    for (const uint32_t rate : {1000u, 1536000u})
      QCOMPARE(Clip::open(wav("good.wav", rate, 2))->format().sample_rate_hz, int(rate));
    QCOMPARE(Clip::open(wav("good.wav", 48000, 64))->format().channels, 64);
    std::string aiff = content_of(save(folder_ / "zero.aiff", Planar(2, 100), 48000, WordFormat::pcm16));
    const auto comm = aiff.find("COMM");
    std::fill_n(aiff.begin() + long(comm) + 16, 10, '\0');  // the rate, as an 80-bit number
    write_whole({folder_ / "zero.aiff", true}, aiff);
    QVERIFY(sentence_of<InputError>([&] { Clip::open(folder_ / "zero.aiff"); }).find("zero.aiff") != std::string::npos);
  }

  void samples_beyond_any_level_are_damage_wherever_they_are_read() {
    for (const double bad : {std::nan(""), double(INFINITY), 1e300, 3e38, -1000.1}) {
      Planar sound = Programme(1, 3).render(48000);
      sound.channel(1)[20000] = bad;
      const auto file = save(folder_ / "bad.wav", sound, 48000, WordFormat::float64);
      const auto clip = Clip::open(file);
      Planar block;
      const auto sentence = sentence_of<InputError>([&] { clip->reader()->read(0, 48000, block); });
      QVERIFY2(sentence.find("0.417 s in channel 2") != std::string::npos, sentence.c_str());
      clip->reader()->read(0, 20000, block);  // what lies before it is sound
    }
    Planar loud(1, 1000);
    loud.channel(0)[5] = 999;
    Planar block;
    Clip::open(save(folder_ / "loud.wav", loud, 48000))->reader()->read(0, 1000, block);
  }

  void pipes_and_devices_are_no_files() {
    const auto pipe = folder_ / "pipe.wav";
    QCOMPARE(::mkfifo(pipe.c_str(), 0600), 0);
    for (const auto& file : {pipe, std::filesystem::path("/dev/zero")}) {
      QVERIFY(!sentence_of<InputError>([&] { Clip::open(file); }).empty());
      QVERIFY(!sentence_of<InputError>([&] { load_bench(file); }).empty());
      QVERIFY(fingerprint(file).empty());
    }
  }

  /// A list that names other files, or places on the network, is no audio.
  void playlists_are_not_followed() {
    const auto sound = save(folder_ / "sound.wav", Programme(1, 3).render(48000), 48000, WordFormat::pcm16);
    write_whole({folder_ / "list.m3u8", true},
                "#EXTM3U\n#EXT-X-TARGETDURATION:10\n#EXTINF:1,\n" + sound.string() + "\n#EXT-X-ENDLIST\n");
    write_whole({folder_ / "list.txt", true}, "ffconcat version 1.0\nfile sound.wav\n");
    for (const char* list : {"list.m3u8", "list.txt"})
      QVERIFY2(!sentence_of<InputError>([&] { Clip::open(folder_ / list); }).empty(), list);
  }

  /// A program that gives rubbish back, a level beyond any number: neither becomes a file.
  void what_is_no_number_is_never_written() {
    Planar sound(1, 4800);
    sound.channel(0)[100] = INFINITY;
    const auto made = made_clip(sound, 48000, "made");
    const Chain none = chain_of({{{"type", "gain"}, {"gain_db", 1}}});
    for (const char* name : {"infinite.wav", "infinite.flac"}) {
      const auto sentence = sentence_of<InputError>([&] { write_return(pass(made, none), none, folder_ / name); });
      QVERIFY2(sentence.find("no number at 0.002 s in channel 1") != std::string::npos, sentence.c_str());
      QVERIFY(!std::filesystem::exists(folder_ / name));
    }
    for (const char* codec : {"flac", "mp3", "aac"})
      QCOMPARE(refused([&] { run(made, {{{"type", "codec"}, {"codec", codec}}}); }, "no number"), 0);
  }

  void stages_do_nothing_unallowed() {
    const auto m = clip(Programme(1, 2).render(48000));
    const auto touched = folder_ / "touched";
    const Chain runs =
        chain_of({{{"type", "external"}, {"command", "sh -c 'touch " + touched.string() + "; cp {in} {out}'"}}});
    QVERIFY(!sentence_of<Disarmed>([&] { pass(m, runs); }).empty());
    QVERIFY(!std::filesystem::exists(touched));
    QVERIFY(!sentence_of<Disarmed>([&] { pass(m, chain_of({{{"type", "lv2"}, {"uri", "urn:x"}}})); }).empty());
    const auto kept = folder_ / "kept.mp3";
    const Chain keeps = chain_of({{{"type", "codec"}, {"codec", "mp3"}, {"keep", kept.string()}}});
    const auto made = pass(m, keeps);  // the encode itself is harmless
    QVERIFY(!std::filesystem::exists(kept) && made.stages[0].note.find("not kept") != std::string::npos);
    pass(m, keeps, {}, everything());
    const auto first = content_of(kept);
    QVERIFY(first.size() > 5000);
    QCOMPARE(pass(m, keeps, {}, everything()).stages[0].note.find("not kept"), std::string::npos);  // the same again
    write_whole({kept, true}, "somebody's own");
    const auto refused = pass(m, keeps, {}, everything());
    QCOMPARE(content_of(kept), std::string("somebody's own"));
    QVERIFY(refused.stages[0].note.find("not kept") != std::string::npos);
    Chain onto = keeps;
    onto.stages[0].values["codec"] = "adpcm_ima";
    onto.stages[0].values["keep"] = m->path().string();  // over the master itself
    const auto before = content_of(m->path());
    auto options = everything();
    options.replace_kept = true;
    QVERIFY(pass(m, onto, {}, options).stages[0].note.find("never written over") != std::string::npos);
    QCOMPARE(content_of(m->path()), before);
  }

  void leave_is_for_this_very_stage_on_this_machine() {
    disarm_everything();
    const Stage runs{"external", {{"command", "cp {in} {out}"}}};
    Stage other = runs, longer = runs, spelt = runs;
    other.values["command"] = "cp {in} {out} ";
    longer.values["limit_s"] = 5;
    spelt.values["limit_s"] = 300;  // its default, written out
    QVERIFY(!grant_here()(runs));
    const Grant before = grant_here();
    arm(runs);
    QVERIFY(grant_here()(runs) && grant_here()(spelt));
    QVERIFY(!grant_here()(other) && !grant_here()(longer) && !before(runs));
    QVERIFY(grant_here()({"gain", {{"gain_db", 1}}}));
    Stage keeps{"codec", {{"keep", (folder_ / "yes/a.m4a").string()}}}, away = keeps, escapes = keeps;
    away.values["keep"] = (folder_ / "no/a.m4a").string();
    std::filesystem::create_directories(folder_ / "yes");
    escapes.values["keep"] = (folder_ / "yes/../no/a.m4a").string();
    arm(keeps);
    QVERIFY(grant_here()(keeps) && !grant_here()(away) && !grant_here()(escapes));
    struct ::stat facts {};
    QVERIFY(::stat(armed_file().c_str(), &facts) == 0 && (facts.st_mode & 0777) == 0600);
    ::chmod(armed_file().c_str(), 0666);  // anybody could have written that
    QVERIFY(!grant_here()(runs));
    ::chmod(armed_file().c_str(), 0600);
    write_whole({armed_file(), true}, "[");
    QVERIFY(!grant_here()(runs));
    disarm_everything();
  }

  void unsaved_copies_belong_to_one_run_until_somebody_chooses() {
    const auto place = folder_ / "unsaved";
    Bench bench;
    bench.name = "Curlew Hours";
    bench.masters.push_back({"m", "Mill Race", {folder_ / "a.wav", {}}, {}});
    UnsavedCopy mine(place);
    mine.keep(bench, folder_ / "hours.heathmist");
    QVERIFY(UnsavedCopy::left_behind(place).empty());  // this run lives
    killed_after([&] {
      Bench theirs = bench;
      theirs.name = "Theirs";
      auto* copy = new UnsavedCopy(place);
      copy->keep(theirs, {});
    });
    {
      auto found = UnsavedCopy::left_behind(place);
      QCOMPARE(found.size(), size_t(1));
      QCOMPARE(found[0].read().bench.name, std::string("Theirs"));
      QVERIFY(found[0].read().of.empty() && UnsavedCopy::left_behind(place).empty());  // held while it is asked about
    }
    auto again = UnsavedCopy::left_behind(place);  // nobody chose: it is still there
    QCOMPARE(again.size(), size_t(1));
    again[0].drop();
    QVERIFY(UnsavedCopy::left_behind(place).empty());
    QVERIFY(mine.exists() && mine.read().bench == bench && mine.read().of == folder_ / "hours.heathmist");
    mine.drop();
    QVERIFY(!mine.exists());
    write_whole(place / "unsaved-1-cut.heathmist", "{\"heathmist_unsaved\": 1, \"of\": \"");
    write_whole(place / "unsaved.heathmist", text_of(bench_json(bench, place)));  // as it was kept once
    auto odd = UnsavedCopy::left_behind(place);
    QCOMPARE(odd.size(), size_t(2));
    int readable = 0;
    for (auto& copy : odd) {
      const auto file = copy.file();
      if (sentence_of<InputError>([&] { copy.read(); }).empty()) ++readable;
      QVERIFY(std::filesystem::exists(file));  // reading takes nothing away
    }
    QCOMPARE(readable, 1);
  }
};

QTEST_GUILESS_MAIN(TestFiles)
#include "test_files.moc"
