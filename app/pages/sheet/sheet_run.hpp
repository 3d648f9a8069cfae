// The files of a sheet and what is known of each: checked one after another, and again when a file changes.
#pragma once
#include <QFileInfo>
#include <memory>

#include "app/model/file_watch.hpp"
#include "app/model/long_work.hpp"
#include "core/delivery/sheet.hpp"

namespace heathmist::app {

struct SheetRow {
  enum class State { waiting, checking, checked, refused };
  QString file;
  State state = State::waiting;
  bool of_bench = false;                     ///< it is there because the bench has it as a master
  std::shared_ptr<const Checked> checked{};  ///< as it was last; of what the file holds now where it is `checked`
  QString sentence{};                        ///< why it was refused
  bool passes() const { return state == State::checked && checked->passes(); }
  bool fails() const { return state == State::refused || (state == State::checked && !checked->passes()); }
};

class SheetRun : public QObject {
  Q_OBJECT

 public:
  SheetRun(Queue& queue, QObject* parent);
  const std::vector<SheetRow>& rows() const { return rows_; }
  const Rules& rules() const { return rules_; }
  /// Other rules: all is checked anew.
  void set_rules(const Rules& rules);
  /// Files that are on the sheet already stay where they are.
  void add(const QStringList& files);
  /// The masters of the bench are on it, those of before no longer.
  void follow_bench(const QStringList& files);
  void remove(const QStringList& files);
  /// Checks what waits; nothing where it is under way.
  void start();
  void stop() { work_.cancel(); }
  /// One that came anew, or once more.
  void check_again(const QString& file);
  void check_all_again();
  bool is_running() const { return work_.is_running(); }
  size_t waiting() const;
  /// The sheet's entries, as the command line has them.
  std::vector<Json> entries() const;

 signals:
  void changed();                        ///< of the rows, or all of what is known of them
  void advanced();                       ///< of what is known of one
  void checked(const QString& file);     ///< or refused
  void progressed(double fraction);      ///< of all that waited
  void rested(const QString& sentence);  ///< nothing waits; or it was stopped, or failed: how

 private:
  SheetRow* row(const QString& file);
  void run();
  void take(const QString& file, int order, std::shared_ptr<const Checked> checked, const QString& sentence);
  void watch();
  std::vector<SheetRow> rows_;
  Rules rules_;
  int order_ = 0;  // of the rules: what was asked by earlier ones does not count
  FileWatch watch_;
  LongWork work_;
};

}  // namespace heathmist::app
