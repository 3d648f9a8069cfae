// What the boards and the ceiling came to before is shown again: the same numbers, as long as nothing they hang on has
// changed.
#include <QtTest>
#include <fstream>

#include "core/audio/kept.hpp"
#include "core/boards/converter_board.hpp"
#include "core/boards/matrix.hpp"
#include "core/delivery/ceiling.hpp"
#include "core/stages/returns.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

Chain chain(std::vector<Stage> stages) { return {"", std::move(stages), 1}; }
Chain coded(int kbps) { return chain({{"codec", {{"codec", "mp3"}, {"bit_rate_kbps", kbps}}}}); }

}  // namespace

class TestKept : public QObject {
  Q_OBJECT

  Folder folder_;
  std::filesystem::path file_;
  Planar sound_ = programme("dense", 44100, 3, 4);

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }
  void init() { file_ = save(folder_ / "master.wav", sound_, 44100, WordFormat::pcm24); }

  void a_value_comes_back_whole_or_not_at_all() {
    const auto number = [](const Json& json) { return json.at("n").get<int>(); };
    QVERIFY(!kept_value("none.kept", number));
    keep_value("one.kept", {{"n", 7}});
    QCOMPARE(kept_value("one.kept", number), std::optional(7));
    keep_value("other.kept", {{"m", 7}});
    QVERIFY(!kept_value("other.kept", number));  // of another form
    write_cache("broken.kept", "no CBOR");
    QVERIFY(!kept_value("broken.kept", number));
    keep_value("", {{"n", 7}});
    QVERIFY(!kept_value("", number));
  }

  void cells_come_back_as_they_were() {
    const std::vector<MatrixRow> rows{{"Master", file_, ""}, {"Tone", {}, probe_signals().front().key}};
    const std::vector<Chain> columns{coded(96), chain({{"word_length"}}), chain({{"codec", {{"codec", "g722"}}}})};
    for (const auto& row : rows)
      for (const auto& column : columns) QVERIFY(!kept_cell(row, column));
    const auto matrix = run_matrix(rows, columns);
    for (size_t r = 0; r < rows.size(); ++r)
      for (size_t c = 0; c < columns.size(); ++c) {
        const MatrixCell& cell = matrix.at(r, c);
        const auto kept = kept_cell(rows[r], columns[c]);
        QCOMPARE(bool(kept), cell.failure.empty());  // what could not be done is tried again
        if (kept)
          QCOMPARE(text_of(cell_json(rows[r], columns[c], *kept)), text_of(cell_json(rows[r], columns[c], cell)));
      }
    QVERIFY(kept_cell(rows[0], columns[0]) && kept_cell(rows[1], columns[1])->tones);
    MatrixRow renamed{"Another name", file_, ""};
    QVERIFY(kept_cell(renamed, columns[0]) && !kept_cell(rows[0], coded(128)));
  }

  void no_cell_outlives_its_file() {
    const MatrixRow row{"Master", file_, ""};
    run_matrix({row}, {coded(96)});
    QVERIFY(kept_cell(row, coded(96)));
    save(file_, scaled(sound_, 0.5), 44100, WordFormat::pcm24);
    QVERIFY(!kept_cell(row, coded(96)));
    save(file_, sound_, 44100, WordFormat::pcm24);
    QVERIFY(kept_cell(row, coded(96)));  // as it was again
    std::filesystem::remove(file_);
    QVERIFY(!kept_cell(row, coded(96)));
  }

  /// What a program of somebody else makes may be another thing tomorrow.
  void what_programs_make_is_not_kept() {
    const MatrixRow row{"Master", file_, ""};
    const Chain copied = chain({{"external", {{"command", "cp {in} {out}"}}}});
    const auto matrix = run_matrix({row}, {copied}, {}, {}, grant_of({Capability::run_program}));
    QVERIFY2(matrix.at(0, 0).failure.empty(), matrix.at(0, 0).failure.c_str());
    QVERIFY(!kept_cell(row, copied));
    CeilingOptions options;
    find_ceiling(file_, {copied}, options, {}, {}, grant_of({Capability::run_program}));
    QVERIFY(!kept_ceiling(file_, copied, options));
  }

  void a_ceiling_comes_back_for_the_same_question() {
    CeilingOptions options;
    options.limit_dbtp = -1;
    QVERIFY(!kept_ceiling(file_, coded(96), options));
    const auto found = find_ceiling(file_, {coded(96)}, options);
    const auto kept = kept_ceiling(file_, coded(96), options);
    QVERIFY(kept);
    QCOMPARE(text_of(ceiling_json({options, {*kept}})), text_of(ceiling_json(found)));
    const auto &a = found.answers.front(), &b = *kept;
    QVERIFY(a.worst.size() == b.worst.size() && a.lucky.size() == b.lucky.size() && a.neighbours == b.neighbours);
    for (auto other : {CeilingOptions{-2, false, 0.05}, CeilingOptions{-1, true, 0.05}, CeilingOptions{-1, false, 0.1}})
      QVERIFY(!kept_ceiling(file_, coded(96), other));
    save(file_, scaled(sound_, 0.5), 44100, WordFormat::pcm24);
    QVERIFY(!kept_ceiling(file_, coded(96), options));
  }

  void a_converter_comes_back_as_it_was_read() {
    const Chain linear = chain({{"converter", {{"rate_hz", 44100}, {"by", "linear"}}}});
    QVERIFY(!kept_converter(linear, 48000));
    const auto read = read_converter(linear, 48000);
    const auto kept = kept_converter(linear, 48000);
    QVERIFY(kept && kept->name == read.name && kept->chain == read.chain);
    QCOMPARE(text_of(board_json(*kept)), text_of(board_json(read)));
    QVERIFY(!kept_converter(linear, 96000));
  }
};

QTEST_MAIN(TestKept)
#include "test_kept.moc"
