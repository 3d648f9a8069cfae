// The bench in the window: the document, its file, its undo stack. Every change goes through edit().
#pragma once
#include <QObject>
#include <QTimer>
#include <QUndoStack>
#include <functional>
#include <map>

#include "core/bench/document.hpp"
#include "core/bench/unsaved.hpp"

namespace heathmist::app {

class BenchModel : public QObject {
  Q_OBJECT

 public:
  explicit BenchModel(QObject* parent = nullptr);

  const Bench& bench() const { return bench_; }
  QString file() const { return file_; }
  QUndoStack& undo_stack() { return undo_; }

  /// Changes the bench as one step that can be undone. Steps with the same `merge` (not 0) in a row become one.
  void edit(const QString& what, const std::function<void(Bench&)>& change, int merge = 0);

  /// Fills in what a file holds, as it is now, here and in all that undo brings back; no step of its own.
  void learn_fingerprint(const std::filesystem::path& file, const std::string& print);
  /// A setting that goes with the bench when it is saved; no step of its own.
  void set_setting(const std::string& key, const nlohmann::ordered_json& value) { bench_.settings[key] = value; }

  /// Takes up a bench that was read from a file.
  void open(const QString& file, const Bench& loaded);
  /// Throws InputError, OutputRefused.
  void save(const QString& file);
  void start_anew();

  /// Where copies of unsaved benches lie: in the user's data.
  static std::filesystem::path unsaved_folder();
  /// Keeps a copy of this run's unsaved bench; done by itself every 20 seconds.
  void autosave();
  /// Somebody chose not to keep the changes: the copy goes.
  void throw_away_copy() { copy_.drop(); }
  /// Takes up what an earlier run left behind. Its copy stays, as this run's own, until the bench is saved or thrown
  /// away.
  void recover(const UnsavedCopy::Content& content, UnsavedCopy copy);

 signals:
  void changed();                             ///< the bench's content
  void file_changed();                        ///< its file or whether it is saved
  void copy_failed(const QString& sentence);  ///< no copy of the unsaved bench could be kept

 private:
  friend class BenchChange;
  void put(const Bench& bench);
  void put_prints(Bench& bench) const;
  Bench bench_;
  std::map<std::string, std::string> prints_;  // fingerprints of files by path, as they were last seen
  QTimer prints_timer_;                        // what was learned of many is put in at once
  QString file_;
  QUndoStack undo_;
  QTimer autosave_timer_;
  UnsavedCopy copy_{unsaved_folder()};
};

/// What one drop of files means: which is the master, which are returns.
struct Drop {
  QString master;  ///< empty: the returns belong to the master that is selected
  QStringList returns;
};
Drop sort_drop(QStringList files, bool master_selected);

/// A file's name as a title: no folder, no ending.
QString title_of(const QString& file);

}  // namespace heathmist::app
