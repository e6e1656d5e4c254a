#include "app/shell/exporter.h"

#include "app/theme/theme.h"
#include "core/audio/file_place.h"

#include <QBuffer>
#include <QFileInfo>
#include <QPdfWriter>
#include <QTextDocument>

namespace gristle::app {

using namespace core;

namespace {

const QString kInt24 = QStringLiteral("WAV, 24 bit (*.wav)");
const QString kFloat = QStringLiteral("WAV, 32-bit float (*.wav)");

/// One file to be written by an export.
struct ExportJob {
    QString file;
    std::vector<MixLayer> layers;
};

struct ExportAnswer {
    std::vector<MixReport> reports;
    std::optional<Error> failure;
};

ExportAnswer exportAll(const std::vector<ExportJob>& jobs, const MixOptions& options, SampleFormat format,
                       const Progress& progress)
{
    ExportAnswer out;
    for (std::size_t i = 0; i < jobs.size(); ++i) {
        const Progress part{progress.stop, [&](double p) { progress.at((double(i) + p) / double(jobs.size())); }};
        auto report = mixToFile(jobs[i].file.toStdString(), jobs[i].layers, options, format, part);
        if (!report) {
            out.failure = report.error();
            return out;
        }
        out.reports.push_back(std::move(*report));
    }
    return out;
}

} // namespace

Exporter::Exporter(SessionModel& session, const BlendBench& blend, Dialogs& dialogs, QObject* parent)
    : QObject(parent), session_(session), blend_(blend), dialogs_(dialogs)
{}

void Exporter::fail(const Error& error)
{
    emit failed(QString::fromStdString(error.message), QString::fromStdString(error.remedy));
}

void Exporter::askMix()
{
    if (!session_.isOpen() || !session_.part()) return;
    QString filter;
    const QString suggested = QString::fromStdString(session_.song()->name + ", " + session_.part()->name + ".wav");
    QString file = dialogs_.saveFile(tr("Export the stereo mix"), suggested, kInt24 + ";;" + kFloat, &filter);
    if (file.isEmpty()) return;
    if (!file.endsWith(".wav", Qt::CaseInsensitive)) file += ".wav";
    writeMix(file, filter == kFloat);
}

void Exporter::askLayers()
{
    if (!session_.isOpen() || !session_.part()) return;
    const QString folder = dialogs_.folder(tr("Export each layer"));
    if (!folder.isEmpty()) writeLayers(folder, false);
}

void Exporter::askSheet(const QString& html)
{
    const QString file =
        dialogs_.saveFile(tr("Save the recall sheet"), QString::fromStdString(session_.document().name) + ".html",
                          tr("HTML (*.html);;PDF (*.pdf)"), nullptr);
    if (!file.isEmpty()) writeSheet(file, html);
}

void Exporter::askLog()
{
    const QString file =
        dialogs_.saveFile(tr("Save the log"), QString::fromStdString(session_.document().name) + tr(" log.csv"),
                          tr("CSV (*.csv)"), nullptr);
    if (file.isEmpty()) return;
    const auto wrote = writeTextAtomically(file.toStdString(), logCsv(session_.folder().readLog()));
    if (!wrote) fail(wrote.error());
}

namespace {

/// A4 pages of the sheet as PDF.
QByteArray pdfOf(const QString& html, const QString& title)
{
    QByteArray bytes;
    QBuffer buffer(&bytes);
    buffer.open(QIODevice::WriteOnly);
    QPdfWriter writer(&buffer);
    writer.setTitle(title);
    writer.setCreator("Gristle");
    writer.setPageSize(QPageSize(QPageSize::A4));
    writer.setPageMargins(QMarginsF(15, 15, 15, 15), QPageLayout::Millimeter);
    QTextDocument document;
    document.setDefaultFont(Theme::instance().text());
    document.setHtml(html);
    document.print(&writer);
    return bytes;
}

} // namespace

/// As PDF where the name ends so, else as HTML.
bool Exporter::writeSheet(const QString& file, const QString& html)
{
    const bool pdf = file.endsWith(".pdf", Qt::CaseInsensitive);
    const std::string bytes =
        pdf ? pdfOf(html, QString::fromStdString(session_.document().name)).toStdString() : html.toStdString();
    const auto wrote = writeTextAtomically(file.toStdString(), bytes);
    if (!wrote) fail(wrote.error());
    return bool(wrote);
}

/// The layers of the part in hand; says why there are none.
std::vector<MixLayer> Exporter::layers(const QString& nothing)
{
    QString why;
    auto out = blend_.layers(&why);
    if (out.empty()) emit failed(why.isEmpty() ? nothing : why, tr("bring takes in first"));
    return out;
}

void Exporter::writeMix(const QString& file, bool isFloat)
{
    const auto mixed = layers(tr("There is nothing to mix"));
    if (mixed.empty()) return;
    const std::vector<ExportJob> jobs{{file, mixed}};
    task_.run<ExportAnswer>(
        tr("Writing %1").arg(QFileInfo(file).fileName()),
        [jobs, options = blend_.options(), isFloat](const Progress& p) {
            return exportAll(jobs, options, isFloat ? SampleFormat::Float32 : SampleFormat::Int24, p);
        },
        [this, file](ExportAnswer answer) {
            if (answer.failure) return fail(*answer.failure);
            const MixReport& r = answer.reports.front();
            const auto figure = [](const std::optional<double>& v) {
                return v ? QString::fromStdString(figureText(*v)) : QString(QChar(0x2013));
            };
            session_.note("mix", tr("Mix exported: %1, %2 LUFS, peak %3 dBTP, mono loses %4 dB")
                                     .arg(QFileInfo(file).fileName(), figure(r.loudness.integratedLufs),
                                          figure(r.truePeakDbtp), figure(r.stereo.monoLossDb)));
            if (r.clippedSamples > 0)
                emit failed(tr("The mix clipped: %1 samples passed full scale").arg(r.clippedSamples),
                            tr("turn all layers down %1 dB or export as float").arg(figure(r.truePeakDbtp)));
        });
}

void Exporter::writeLayers(const QString& folder, bool isFloat)
{
    const auto mixed = layers(tr("There is nothing to export"));
    if (mixed.empty()) return;
    std::vector<ExportJob> jobs;
    for (const MixLayer& layer : mixed) {
        QString name =
            QString::fromStdString(session_.song()->name + ", " + session_.part()->name + ", " + layer.recipe.name);
        name.replace('/', '-');
        jobs.push_back({folder + "/" + name + ".wav", {layer}});
    }
    task_.run<ExportAnswer>(
        tr("Writing %1 layers").arg(jobs.size()),
        [jobs, options = blend_.options(), isFloat](const Progress& p) {
            return exportAll(jobs, options, isFloat ? SampleFormat::Float32 : SampleFormat::Int24, p);
        },
        [this, folder, count = jobs.size()](ExportAnswer answer) {
            if (answer.failure) return fail(*answer.failure);
            session_.note("mix", tr("%1 layers exported, placed, to %2").arg(count).arg(QFileInfo(folder).fileName()));
        });
}

} // namespace gristle::app
