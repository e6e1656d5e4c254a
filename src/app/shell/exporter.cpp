#include "app/shell/exporter.h"

#include "app/theme/theme.h"
#include "core/audio/file_place.h"
#include "core/session/take_import.h"
#include "core/units/text.h"

#include <QBuffer>
#include <QFileInfo>
#include <QPdfWriter>
#include <QTextDocument>

namespace gristle::app {

using namespace core;

namespace {

QString text(const std::string& s) { return QString::fromStdString(s); }

const QString kInt24 = QStringLiteral("WAV, 24 bit (*.wav)");
const QString kFloat = QStringLiteral("WAV, 32-bit float (*.wav)");

Result<std::vector<MixAnswer>> exportAll(const std::vector<ExportJob>& jobs, SampleFormat format, RenderCache& cache,
                                         const Progress& progress)
{
    std::vector<MixAnswer> out;
    for (std::size_t i = 0; i < jobs.size(); ++i) {
        const Progress part{progress.stop, [&](double p) { progress.at((double(i) + p) / double(jobs.size())); }};
        const std::filesystem::path file = jobs[i].file.toStdString();
        auto answer = writeMix(file, jobs[i].plan, format, shownName(file), part, &cache);
        if (!answer) return answer.error();
        out.push_back(std::move(*answer));
    }
    return out;
}

} // namespace

Exporter::Exporter(SessionModel& session, Dialogs& dialogs, QObject* parent)
    : QObject(parent), session_(session), dialogs_(dialogs)
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

void Exporter::askStems(StemsBy by)
{
    if (!session_.isOpen() || !session_.song()) return;
    const QString folder = dialogs_.folder(tr("Export the song and its stems by %1").arg(text(nameOf(by))));
    if (!folder.isEmpty()) writeStems(folder, by, false);
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

/// The part in hand, as the command line mixes it; where it cannot be made, it is told why.
std::optional<MixPlan> Exporter::plan()
{
    auto out = planMix(session_.folder(), *session_.song(), *session_.part(), true);
    if (out) return std::move(*out);
    fail(out.error());
    return std::nullopt;
}

void Exporter::write(const QString& title, std::vector<ExportJob> jobs, bool isFloat,
                     const std::function<void(const MixAnswer&)>& done)
{
    using Answer = std::shared_ptr<Result<std::vector<MixAnswer>>>;
    task_.run<Answer>(
        title,
        [jobs = std::move(jobs), isFloat, cache = session_.renders()](const Progress& p) {
            const auto format = isFloat ? SampleFormat::Float32 : SampleFormat::Int24;
            return std::make_shared<Result<std::vector<MixAnswer>>>(exportAll(jobs, format, *cache, p));
        },
        [this, done](Answer answer) {
            if (!*answer) return fail(answer->error());
            done((*answer)->front());
            for (const MixAnswer& a : **answer)
                for (const Finding& f : a.findings)
                    if (f.severity == Severity::Stop && f.code == "mix.clipped")
                        emit failed(text(f.subject + ": " + f.message), text(f.remedy));
        });
}

void Exporter::writeMix(const QString& file, bool isFloat)
{
    const auto mix = plan();
    if (!mix) return;
    write(tr("Writing %1").arg(QFileInfo(file).fileName()), {{file, *mix}}, isFloat, [this, file](const MixAnswer& a) {
        const auto figure = [](const std::optional<double>& v) {
            return v ? text(figureText(*v)) : QString(QChar(0x2013));
        };
        session_.note("mix", tr("Mix exported: %1, %2 LUFS, peak %3 dBTP, mono loses %4 dB")
                                 .arg(QFileInfo(file).fileName(), figure(a.report.loudness.integratedLufs),
                                      figure(a.report.truePeakDbtp), figure(a.report.stereo.monoLossDb)));
    });
}

/// The song and what it comes apart into, in one folder.
void Exporter::writeStems(const QString& folder, StemsBy by, bool isFloat)
{
    if (!session_.isOpen() || !session_.song()) return;
    auto plan = planMix(session_.folder(), *session_.song(), true);
    if (!plan) return fail(plan.error());
    const std::filesystem::path into = folder.toStdString();
    if (const auto may = checkStemsFolder(into); !may) return fail(may.error());
    const auto mix = into / freeName(into, ".", safeStem(plan->song + ", mix"));
    using Answer = std::shared_ptr<Result<StemsAnswer>>;
    task_.run<Answer>(
        tr("Writing the song and its stems"),
        [plan = std::move(*plan), into, mix = mix.lexically_normal(), by, isFloat,
         cache = session_.renders()](const Progress& p) {
            const auto format = isFloat ? SampleFormat::Float32 : SampleFormat::Int24;
            const auto half = [&](double from) {
                return Progress{p.stop, [&p, from](double at) { p.at(0.5 * at + from); }};
            };
            const auto whole = core::writeMix(mix, plan, format, shownName(mix), half(0.0), cache.get());
            if (!whole) return std::make_shared<Result<StemsAnswer>>(whole.error());
            return std::make_shared<Result<StemsAnswer>>(
                core::writeStems(into, plan, by, mix, format, half(0.5), cache.get()));
        },
        [this, folder, by](Answer answer) {
            if (!*answer) return fail(answer->error());
            const auto& made = **answer;
            session_.note("mix", tr("The song and %1 stems by %2 exported to %3")
                                     .arg(made.stems.size())
                                     .arg(text(nameOf(by)), QFileInfo(folder).fileName()));
            for (const Finding& f : made.findings) emit failed(text(f.message), text(f.remedy));
        });
}

void Exporter::writeLayers(const QString& folder, bool isFloat)
{
    const auto mix = plan();
    if (!mix) return;
    std::vector<ExportJob> jobs;
    for (const MixLayer& layer : mix->layers) {
        QString name = text(session_.song()->name + ", " + session_.part()->name + ", " + layer.recipe.name);
        name.replace('/', '-');
        MixPlan one = *mix;
        one.layers = {layer};
        jobs.push_back({folder + "/" + name + ".wav", std::move(one)});
    }
    const auto count = jobs.size();
    write(count == 1 ? tr("Writing one layer") : tr("Writing %1 layers").arg(count), std::move(jobs), isFloat,
          [this, folder, count](const MixAnswer&) {
              const QString name = QFileInfo(folder).fileName();
              session_.note("mix", count == 1 ? tr("One layer exported, placed, to %1").arg(name)
                                              : tr("%1 layers exported, placed, to %2").arg(count).arg(name));
          });
}

} // namespace gristle::app
