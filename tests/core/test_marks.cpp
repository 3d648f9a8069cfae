// Marks of a master: their order, their way through the bench, and cue points as another library reads them.
#include <sndfile.h>

#include <QtTest>
#include <cmath>

#include "core/audio/tags.hpp"
#include "core/bench/marks.hpp"
#include "core/compare/json.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

Master master_at(const std::filesystem::path& file) {
  Master m{"m1", "Mill Race", {file, {}}, {{"t1", "MP3 96", {file, {}}, {}}}};
  put_mark(m, {"b", "the wheel stops", 1.5, 2.25, "t1"});
  put_mark(m, {"a", "Klick, gro\u00df", 0.25});
  return m;
}

/// The cue points of a file as libsndfile has them.
std::vector<SF_CUE_POINT> cues_in(const std::filesystem::path& file) {
  SF_INFO info{};
  SNDFILE* sound = sf_open(file.c_str(), SFM_READ, &info);
  if (!sound) return {};
  uint32_t count = 0;
  std::vector<SF_CUE_POINT> points;
  if (sf_command(sound, SFC_GET_CUE_COUNT, &count, sizeof count) == SF_TRUE) {
    SF_CUES cues{};
    sf_command(sound, SFC_GET_CUE, &cues, sizeof cues);
    points.assign(cues.cue_points, cues.cue_points + std::min<uint32_t>(count, 100));
  }
  sf_close(sound);
  return points;
}

std::string bytes_of_file(const std::filesystem::path& file) {
  QFile f(QString::fromStdString(file.string()));
  if (!f.open(QIODevice::ReadOnly)) return {};
  return f.readAll().toStdString();
}

Planar all_of(const std::filesystem::path& file) {
  const auto clip = Clip::open(file);
  Planar all;
  clip->reader()->read(0, clip->format().frames, all);
  return all;
}

}  // namespace

class TestMarks : public QObject {
  Q_OBJECT

 private slots:
  /// Whatever is put, moved and dropped: in the order of time, none twice, found from any place.
  void they_stay_in_the_order_of_time() {
    dsp::Noise chance(4);
    Master m{"m", "Mill Race", {}, {}};
    std::map<std::string, double> truth;
    for (int n = 0; n < 3000; ++n) {
      const std::string id = std::to_string(int(chance.uniform() * 40));
      if (chance.uniform() < 0.3) {
        QCOMPARE(drop_mark(m, id), truth.erase(id) > 0);
      } else {
        const double at = std::floor(chance.uniform() * 50);
        put_mark(m, {id, "note", at}), truth[id] = at;
      }
      QCOMPARE(m.marks.size(), truth.size());
      for (size_t k = 1; k < m.marks.size(); ++k) QVERIFY(m.marks[k - 1].at_s <= m.marks[k].at_s);
      const double from = chance.uniform() * 50;
      const Mark *after = mark_after(m, from), *before = mark_before(m, from);
      double next = 1e9, last = -1;
      for (const auto& [key, at] : truth) {
        QCOMPARE(mark_of(m, key)->at_s, at);
        if (at > from) next = std::min(next, at);
        if (at < from) last = std::max(last, at);
      }
      QCOMPARE(after ? after->at_s : 1e9, next);
      QCOMPARE(before ? before->at_s : -1, last);
    }
  }

  void they_come_back_with_the_bench() {
    Bench bench;
    bench.masters = {master_at("/music/mill-race.wav")};
    const Json json = bench_json(bench, "/music");
    QCOMPARE(json["heathmist_bench"], Json(3));
    QVERIFY(bench_from_json(json, "/music", "b").masters == bench.masters);
    bench.masters[0].marks.clear();
    QCOMPARE(bench_json(bench, "/music")["heathmist_bench"], Json(2));
    for (const char* wrong :
         {R"({"id": "a", "text": "x"})", R"({"id": "a", "text": "x", "at_s": -1})",
          R"({"id": "a", "text": 3, "at_s": 1})", R"({"id": "a", "text": "x", "at_s": 2, "until_s": 1})"}) {
      Json broken = json;
      broken["masters"][0]["marks"][0] = json_from(wrong);
      QVERIFY_THROWS_EXCEPTION(InputError, bench_from_json(broken, "/music", "b"));
    }
    Json twice = json;  // another's id, and out of order
    twice["masters"][0]["marks"].push_back(json_from(R"({"id": "a", "text": "first", "at_s": 0})"));
    const Bench mended = bench_from_json(twice, "/music", "b");
    QCOMPARE(mended.masters[0].marks.size(), size_t(3));
    QCOMPARE(mended.masters[0].marks[0].text, std::string("first"));
    QVERIFY(mended.masters[0].marks[0].id != mended.masters[0].marks[1].id);
  }

  void they_make_a_table() {
    Bench bench;
    bench.masters = {master_at("/music/mill-race.wav")};
    bench.masters[0].marks[0].text = "one, \"two\"";
    const auto rows = marks_rows(bench);
    QCOMPARE(rows.size(), size_t(2));
    QCOMPARE(rows[1]["trial"], Json("MP3 96"));
    QVERIFY(rows[0]["until_s"].is_null());
    QVERIFY(csv_of(rows).find("\"one, \"\"two\"\"\"") != std::string::npos);
  }

  /// Every sample as it was, and the points where they were put, by another library's reading.
  void cue_points_are_read_by_others() {
    for (const auto& [word, rate] : {std::pair{WordFormat::pcm16, 44100},
                                     {WordFormat::pcm24, 96000},
                                     {WordFormat::pcm32, 48000},
                                     {WordFormat::float32, 192000},
                                     {WordFormat::float64, 48000}}) {
      const auto file = save(folder_ / "mill-race.wav", Programme(3, 5).render(rate), rate, word);
      const auto out = folder_ / ("marked-" + std::to_string(int(word)) + ".wav");
      write_with_marks(*Clip::open(file), master_at(file), out);
      const auto cues = cues_in(out);
      QCOMPARE(cues.size(), size_t(2));
      QCOMPARE(int64_t(cues[0].sample_offset), std::llround(0.25 * rate));
      QCOMPARE(int64_t(cues[1].sample_offset), std::llround(1.5 * rate));
      QCOMPARE(std::string(cues[0].name), std::string("Klick, gro\u00df"));
      QCOMPARE(std::string(cues[1].name), std::string("the wheel stops"));
      QVERIFY(same_samples(*Clip::open(file), *Clip::open(out)));
      QCOMPARE(Clip::open(out)->format().container_bits, Clip::open(file)->format().container_bits);
      const std::string bytes = bytes_of_file(out);
      const size_t region = bytes.find("ltxt");
      QVERIFY(region != std::string::npos && bytes.find("ltxt", region + 4) == std::string::npos);
      uint32_t frames = 0;
      std::memcpy(&frames, bytes.data() + region + 12, 4);
      QCOMPARE(int64_t(frames), std::llround(0.75 * rate));
      QCOMPARE(bytes.substr(region + 16, 4), std::string("rgn "));
    }
  }

  void labels_of_any_length_and_many_points_are_read() {
    const auto file = save(folder_ / "mill-race.wav", Programme(3, 5).render(48000), 48000, WordFormat::pcm16);
    for (int count = 1; count <= 9; ++count) {
      Master m{"m", "Mill Race", {file, {}}, {}};
      for (int n = 0; n < count; ++n)
        put_mark(m, {std::to_string(n), std::string(size_t(3 * n + count), 'x'), 0.2 * n});
      const auto out = folder_ / ("many-" + std::to_string(count) + ".wav");
      write_with_marks(*Clip::open(file), m, out);
      const auto cues = cues_in(out);
      QCOMPARE(int(cues.size()), count);
      for (int n = 0; n < count; ++n) {
        QCOMPARE(std::string(cues[size_t(n)].name), std::string(size_t(3 * n + count), 'x'));
        QCOMPARE(int64_t(cues[size_t(n)].sample_offset), std::llround(0.2 * n * 48000));
      }
      QVERIFY(same_samples(*Clip::open(file), *Clip::open(out)));
    }
  }

  void what_the_master_says_of_itself_stays() {
    const auto file = folder_ / "tagged.wav";
    BroadcastExtension bext;
    bext.description = "tide mill", bext.time_reference = 4800;
    {
      ClipWriter out(file, 48000, 2, WordFormat::pcm24);
      out.describe(bext);
      out.write(Programme(3, 6).render(48000));
      write_tags(out.close(), false, {{{"TITLE", {"Mill Race"}}, {"ARTIST", {"Sluice Quartet"}}}, {}});
      out.finish();
    }
    const auto out = folder_ / "tagged-marked.wav";
    write_with_marks(*Clip::open(file), master_at(file), out);
    QCOMPARE(cues_in(out).size(), size_t(2));
    QCOMPARE(read_tags(out).words.at("TITLE"), std::vector<std::string>{"Mill Race"});
    QCOMPARE(read_broadcast_extension(out)->time_reference, uint64_t(4800));
    QVERIFY(same_samples(*Clip::open(file), *Clip::open(out)));
  }

  void nothing_is_written_where_it_should_not_be() {
    const auto file = save(folder_ / "master.wav", Programme(3, 7).render(48000), 48000);
    const std::string before = bytes_of_file(file);
    const auto clip = Clip::open(file);
    QVERIFY_THROWS_EXCEPTION(OutputRefused, write_with_marks(*clip, master_at(file), {file, true}));
    QVERIFY_THROWS_EXCEPTION(InputError, write_with_marks(*clip, master_at(file), folder_ / "marks.flac"));
    const auto there = save(folder_ / "there.wav", all_of(file), 48000);
    QVERIFY_THROWS_EXCEPTION(OutputRefused, write_with_marks(*clip, master_at(file), there));
    std::stop_source stop;
    stop.request_stop();
    QVERIFY_THROWS_EXCEPTION(Cancelled,
                             write_with_marks(*clip, master_at(file), folder_ / "stopped.wav", {stop.get_token()}));
    QVERIFY(!std::filesystem::exists(folder_ / "stopped.wav"));
    QCOMPARE(bytes_of_file(file), before);
    Master beyond = master_at(file);
    put_mark(beyond, {"c", "far away", 1e6});
    QVERIFY_THROWS_EXCEPTION(InputError, write_with_marks(*clip, beyond, folder_ / "far.wav"));
    const CuePoint too_far{int64_t(1) << 33, 0, "far"};
    QVERIFY_THROWS_EXCEPTION(std::invalid_argument, cue_chunks(std::span(&too_far, 1)));
    QVERIFY(!std::filesystem::exists(folder_ / "far.wav"));
  }

 private:
  Folder folder_;
};

QTEST_GUILESS_MAIN(TestMarks)
#include "test_marks.moc"
