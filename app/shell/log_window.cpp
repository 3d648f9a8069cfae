#include "app/shell/log_window.hpp"

#include <QDialogButtonBox>
#include <QGuiApplication>
#include <QPlainTextEdit>
#include <QPushButton>
#include <QScrollBar>
#include <QVBoxLayout>

#include "app/model/log.hpp"
#include "app/shell/main_window.hpp"
#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/saving.hpp"

namespace heathmist::app {

namespace {

void log_result(Workspace& workspace, const QString& id) {
  const auto result = workspace.results().result(id.toStdString());
  if (!result || !result->why) return;
  log_line(LogLevel::note,
           QObject::tr("measured %1: %2")
               .arg(workspace.name_of(id.toStdString()),
                    QString::fromStdString(result->report->findings.empty() ? std::string(name_of(result->report->kind))
                                                                            : result->report->findings.front().text)));
}

}  // namespace

void keep_log_of(MainWindow& window) {
  Workspace& workspace = window.workspace();
  log_line(LogLevel::note, QObject::tr("Heathmist %1, Qt %2, sound output: %3")
                               .arg(QCoreApplication::applicationVersion(), qVersion(),
                                    QString::fromStdString(window.player().device().name())));
  QObject::connect(&workspace.results(), &TrialResults::finished, &window,
                   [&workspace](const QString& id) { log_result(workspace, id); });
  QObject::connect(&workspace.results(), &TrialResults::failed, &window,
                   [&workspace](const QString& id, const QString& sentence) {
                     log_line(LogLevel::trouble,
                              QObject::tr("not measured, %1: %2").arg(workspace.name_of(id.toStdString()), sentence));
                   });
  QObject::connect(&workspace, &Workspace::file_changed, &window,
                   [](const QString&, const QString& sentence) { log_line(LogLevel::note, sentence); });
  QObject::connect(window.files(), &BenchFiles::opened, &window, [&workspace] {
    log_line(LogLevel::note, QObject::tr("opened the bench %1").arg(QString::fromStdString(workspace.bench().name)));
  });
  QObject::connect(window.notice(), &Notice::said, &window,
                   [](const QString& sentence) { log_line(LogLevel::trouble, sentence); });
}

LogWindow::LogWindow(QWidget* parent) : QDialog(parent) {
  setWindowTitle(tr("The log"));
  resize(860, 520);
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(14, 12, 14, 12);
  const auto file = log_file();
  auto* where = soft_label(tr("What was done and what went wrong, newest last. It lies in %1 and goes nowhere by "
                              "itself; it names the files of your benches.")
                               .arg(QString::fromStdString(file.string())),
                           this);
  where->setWordWrap(true);
  where->setTextInteractionFlags(Qt::TextSelectableByMouse);
  rows->addWidget(where);
  auto* text = new QPlainTextEdit(read_log(file), this);
  text->setReadOnly(true);
  text->setLineWrapMode(QPlainTextEdit::NoWrap);
  text->setAccessibleName(tr("The lines of the log"));
  rows->addWidget(text, 1);
  auto* buttons = new QDialogButtonBox(QDialogButtonBox::Close, this);
  connect(buttons->addButton(tr("Save a copy…"), QDialogButtonBox::ActionRole), &QPushButton::clicked, this,
          [this, text] {
            save_as(this, {tr("Save a copy of the log"), "heathmist-log.txt", tr("Text (*.txt)"), "txt"},
                    [text](const Destination& to) { write_whole(to, text->toPlainText().toStdString()); });
          });
  connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
  rows->addWidget(buttons);
  text->verticalScrollBar()->setValue(text->verticalScrollBar()->maximum());
  text->setFocus();
}

}  // namespace heathmist::app
