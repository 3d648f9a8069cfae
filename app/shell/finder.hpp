// "Find or do anything" by a few letters: commands, pages, trials, findings, outlets, chapters and terms, in groups,
// what was chosen last first.
#pragma once
#include <QDialog>
#include <QLineEdit>
#include <QListWidget>
#include <functional>

namespace heathmist::app {

struct FinderEntry {
  QString group;  ///< over which it stands
  QString title;
  QString place{};  ///< a second line: where it is, or what it does
  QString keys{};   ///< as they are pressed
  std::function<void()> run{};
  QString kept_as{};  ///< under which it is known to have been chosen before; empty: that is not kept
};

class Finder : public QDialog {
  Q_OBJECT

 public:
  /// Groups stand in the order in which they first come, until letters are typed: then by what fits best.
  Finder(std::vector<FinderEntry> entries, QWidget* parent);
  QLineEdit* edit() const { return edit_; }
  QListWidget* list() const { return list_; }
  QStringList titles() const;  ///< of what is listed, from the top, without the groups' own

 protected:
  bool eventFilter(QObject* watched, QEvent* event) override;
  void paintEvent(QPaintEvent* event) override;

 private:
  void filter(const QString& letters);
  void add_group(const QString& name, const std::vector<size_t>& entries);
  void step(int by);
  void run_current();
  std::vector<size_t> used_before() const;
  std::vector<FinderEntry> entries_;
  QLineEdit* edit_;
  QListWidget* list_;
};

/// How well typed letters name something: 0 where some word of them is in neither text, not even letter by letter;
/// 1 where the title begins with them.
double how_well(const QString& letters, const QString& title, const QString& place);

}  // namespace heathmist::app
