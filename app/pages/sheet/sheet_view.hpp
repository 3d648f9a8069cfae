// A sheet: many files against an outlet or a set of rules, those that fail in front.
#pragma once
#include <QComboBox>
#include <QLabel>
#include <QPushButton>

#include "app/model/folders.hpp"
#include "app/model/watch_log.hpp"
#include "app/pages/sheet/sheet_run.hpp"
#include "app/widgets/chooser.hpp"
#include "app/widgets/result_table.hpp"

namespace heathmist::app {

class SheetView : public QWidget {
  Q_OBJECT

 public:
  enum Column { verdict_column, file_column, fault_column, loudness_column, peak_column, range_column, rate_column };

  explicit SheetView(Queue& queue, QWidget* parent = nullptr);
  SheetRun& run() { return *run_; }
  FolderWatch& folder() { return *folder_; }
  const WatchLog& log() const { return log_; }
  ResultTable* table() const { return table_; }
  ResultTable* faults() const { return faults_; }
  ResultTable* log_table() const { return log_table_; }
  QComboBox* against() const { return against_; }
  QString headline() const { return headline_->text(); }
  /// Files, and folders for the audio in them; what cannot be looked into is said.
  void add(const QStringList& files_and_folders);
  void check_against(const Rules& rules);  ///< rules of the user's own, or of an outlet
  const Rules& rules() const { return run_->rules(); }
  void watch(const QString& folder);
  /// The folder that was watched when the program ended, against the rules of then.
  void watch_again();
  /// The outlets as they are now.
  void reload();
  void add_files();
  void add_folder();
  void choose_folder_to_watch();
  void edit_rules();
  void save_csv();
  void save_html();

 signals:
  void jump_wanted(const QString& file, double at_s);
  void rested();

 protected:
  void dragEnterEvent(QDragEnterEvent* event) override;
  void dropEvent(QDropEvent* event) override;
  void keyPressEvent(QKeyEvent* event) override;

 private:
  QWidget* make_head();
  QWidget* make_watch_row();
  QWidget* make_lower();
  void make_table();
  void choose_against(int index);
  void show_against();
  void fill();
  void fill_faults();
  void fill_log();
  void say();
  void take(const QStringList& files, const QStringList& refused);
  void remember_watching() const;
  void say_watch(const QString& trouble = {});
  void log_of(const QString& file);
  void log_line(const QString& file, const QString& verdict, const QString& what);
  const SheetRow* chosen() const;
  void jump(size_t fault);
  SheetRun* run_;
  FolderListing listing_;
  FolderWatch* folder_;
  WatchLog log_;
  Rules own_;  // as they were last
  std::vector<Outlet> outlets_;
  std::vector<Fault> shown_faults_;
  QTimer fill_timer_;
  QComboBox* against_;
  QPushButton *check_, *unwatch_;
  QLabel *headline_, *note_, *watch_words_;
  QWidget* watch_row_;
  Chooser* lower_;
  ResultTable *table_, *faults_, *log_table_;
};

}  // namespace heathmist::app
