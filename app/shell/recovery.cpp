#include "app/shell/recovery.hpp"

#include <QDateTime>
#include <QFileInfo>
#include <QMessageBox>
#include <QPushButton>

namespace heathmist::app {

namespace {

enum class Choice { open, throw_away, leave };

QString time_of(const UnsavedCopy& copy) {
  return QLocale::c().toString(QFileInfo(QString::fromStdString(copy.file().string())).lastModified(), "d MMMM, HH:mm");
}

/// What somebody wants done with a copy; `broken` is the sentence of one that cannot be read.
Choice ask(QWidget* parent, const QString& what, const QString& more, bool readable) {
  QMessageBox box(QMessageBox::NoIcon, QObject::tr("Unsaved work of an earlier run"), what, QMessageBox::NoButton,
                  parent);
  box.setTextFormat(Qt::PlainText);  // names are names
  box.setInformativeText(more);
  auto* open = readable ? box.addButton(QObject::tr("Open it"), QMessageBox::AcceptRole) : nullptr;
  auto* drop = box.addButton(QObject::tr("Throw it away"), QMessageBox::DestructiveRole);
  auto* leave = box.addButton(QObject::tr("Leave it for later"), QMessageBox::RejectRole);
  open ? open->setObjectName("openCopy") : void();
  drop->setObjectName("dropCopy");
  leave->setObjectName("leaveCopy");
  box.setDefaultButton(open ? open : leave);
  box.setEscapeButton(leave);
  box.exec();
  return open && box.clickedButton() == open ? Choice::open
         : box.clickedButton() == drop       ? Choice::throw_away
                                             : Choice::leave;
}

/// One copy: true where it was opened.
bool offer(QWidget* parent, BenchModel& model, UnsavedCopy copy, const std::function<bool()>& may_open) {
  UnsavedCopy::Content content;
  try {
    content = copy.read();
  } catch (const std::exception& error) {
    if (ask(parent, QObject::tr("A copy of an unsaved bench, kept on %1, cannot be read.").arg(time_of(copy)),
            QString::fromUtf8(error.what()), false) == Choice::throw_away)
      copy.drop();
    return false;
  }
  const QString name = !content.bench.name.empty() ? QString::fromStdString(content.bench.name)
                       : !content.of.empty()       ? title_of(QString::fromStdString(content.of.string()))
                                                   : QObject::tr("a bench without a name");
  const QString more = content.of.empty() ? QObject::tr("It was never saved.")
                                          : QObject::tr("It belongs to %1, which stays as it is until you save.")
                                                .arg(QString::fromStdString(content.of.string()));
  switch (ask(parent,
              QObject::tr("%1 was not saved when the program ended; a copy was kept on %2.").arg(name, time_of(copy)),
              more, true)) {
    case Choice::throw_away:
      copy.drop();
      return false;
    case Choice::open:
      if (!may_open()) return false;
      model.recover(content, std::move(copy));
      return true;
    default:
      return false;
  }
}

}  // namespace

bool offer_unsaved(QWidget* parent, BenchModel& model, const std::function<bool()>& may_open) {
  for (UnsavedCopy& copy : UnsavedCopy::left_behind(BenchModel::unsaved_folder()))
    if (offer(parent, model, std::move(copy), may_open)) return true;
  return false;
}

}  // namespace heathmist::app
