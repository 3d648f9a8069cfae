#include "app/report/write_report.hpp"

#include <QImage>

#include "app/report/html.hpp"
#include "app/report/paper.hpp"

namespace heathmist::app {

void check_report(const Destination& to) {
  const std::string ending = to.file.extension().string();
  if (ending != ".html" && ending != ".pdf")
    throw OutputRefused(to.file, "a report is written as .html or .pdf; give it one of these endings");
  check(to);
}

void check_logo(const std::filesystem::path& file) {
  if (file.empty()) return;
  const ReportLogo logo = read_logo(file);
  if (QImage::fromData(QByteArray::fromStdString(logo.bytes)).isNull())
    throw InputError(file, "this is no picture that can be shown; give a PNG or a JPEG file as the logo");
}

void write_report(const Report& report, const Destination& to) {
  check_report(to);
  if (to.file.extension() == ".html") return write_whole(to, report_html(report));
  const QByteArray pdf = Paper(report).pdf();
  write_whole(to, std::string_view(pdf.data(), size_t(pdf.size())));
}

}  // namespace heathmist::app
