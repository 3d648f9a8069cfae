// What goes into a report, and how its pages look: a preview that is the report.
#pragma once
#include <QCheckBox>
#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QTimer>
#include <map>
#include <mutex>

#include "app/model/long_work.hpp"
#include "app/pages/report/pages_view.hpp"
#include "app/pages/writing.hpp"
#include "core/bench/report.hpp"

namespace heathmist::app {

class ReportView : public QWidget {
  Q_OBJECT

 public:
  using Known = decltype(ReportSources::known);
  /// What the view asks of the window, on the interface thread.
  struct Asks {
    Known known;                         ///< what the bench's trials came to
    std::function<bool()> is_measuring;  ///< they are being measured: the report waits for them, not to do it twice
    std::function<bool()> is_quiet;      ///< there are to be no dialogs while it is written
  };
  ReportView(Queue& queue, QWidget* window, Asks asks, QWidget* parent = nullptr);

  /// What the bench holds now, and what of it is looked at; another bench is another report.
  void follow(const Bench& bench, const std::string& bench_file, const std::string& looked_at);
  /// What was made of it is not what it holds.
  void forget(const std::filesystem::path& file);
  void make();
  bool is_running() const { return work_.is_running(); }
  /// It is not seen: when it is next followed it is made anew, whatever an outlet, a measurement or a stage's leave
  /// have become meanwhile.
  void leave() { is_left_ = true; }
  /// The report as it is shown; nullptr: there is none yet, or it is being made.
  std::shared_ptr<const Report> report() const { return report_; }
  ReportChoice choice() const;
  void set_choice(const ReportChoice& choice);  ///< all but what it is of
  void set_logo(const QString& file);           ///< empty: none
  void write(const Destination& to);
  void save(const QString& ending);  ///< asks where to
  QComboBox* scope() const { return scope_; }
  QLineEdit* heading() const { return heading_; }
  QCheckBox* part(ReportPart part) const { return parts_.at(part); }
  PagesView* pages() const { return pages_; }
  QString note() const { return note_->text(); }

 signals:
  void rested();
  void written(bool is_whole);
  void failed(const QString& sentence);

 private:
  QWidget* make_head();
  QWidget* make_choices();
  void fill_scope();
  void make_soon();
  void drop();
  void show_state(const QString& words);
  Bench bench_;
  std::string bench_file_, looked_at_;
  Asks asks_;
  bool is_stopped_ = false, is_left_ = false;
  QString logo_;
  std::shared_ptr<const Report> report_;
  struct Kept {  // what was measured for the report before
    std::mutex lock;
    Analysis analysis;
  };
  std::shared_ptr<Kept> kept_ = std::make_shared<Kept>();
  LongWork work_;
  Writing writing_;
  QTimer soon_;
  QComboBox* scope_;
  QLineEdit* heading_;
  QLabel *note_, *logo_name_;
  QPushButton *pdf_, *html_, *stop_, *no_logo_;
  std::map<ReportPart, QCheckBox*> parts_;
  PagesView* pages_;
};

}  // namespace heathmist::app
