#include "app/benches/blend/song_page.h"

#include "app/benches/blend/song_plot.h"
#include "app/models/slots.h"
#include "app/widgets/column_share.h"
#include "core/advice/file_findings.h"
#include "core/advice/mix_findings.h"
#include "core/session/section_edit.h"

#include <QDoubleSpinBox>
#include <QHeaderView>
#include <QLineEdit>
#include <QTableWidget>

namespace gristle::app {

using namespace core;

namespace {

enum Column { kName, kBar, kLong, kLoudness, kAgainst, kPeak, kWidth, kMono };

QString text(const std::string& s) { return QString::fromStdString(s); }
QString figure(const std::optional<double>& v, int digits, bool isSigned = false)
{
    if (!v) return QString(QChar(0x2013));
    return text(isSigned ? signedText(*v, digits) : figureText(*v, digits));
}

} // namespace

SongPage::SongPage(const BenchContext& context, SongSum& sum, QWidget* parent)
    : BenchPage(context, tr("Song"), tr("How does the song go from section to section?"), parent), sum_(sum)
{
    build();
    for (auto signal : {&SessionModel::documentChanged, &SessionModel::rigChanged, &SessionModel::pathChanged})
        connect(&session(), signal, this, &SongPage::refresh);
    connect(&sum_, &SongSum::changed, this, [this] {
        if (!isVisible()) return;
        show();
        emit stateChanged();
    });
    connect(&Theme::instance(), &Theme::changed, this, &SongPage::refresh);
}

void SongPage::build()
{
    auto* column = layOut("songSentence", sentence_);
    plot_ = new SongPlot(this);
    connect(plot_, &SongPlot::choose, this, [this](int section) { table_->selectRow(section); });
    column->addWidget(plot_, 3);
    auto* row = addRow(column, 6);
    name_ = named(new QLineEdit(this), "sectionName", tr("Name of a section"));
    name_->setPlaceholderText(tr("verse, chorus, \u2026"));
    row->addWidget(name_, 1);
    bar_ = named(new QDoubleSpinBox(this), "sectionBar", tr("The bar where it begins"));
    bar_->setRange(1.0, 9999.0);
    bar_->setDecimals(0);
    bar_->setPrefix(tr("from bar "));
    row->addWidget(bar_);
    const auto add = [this] {
        const std::string wanted = name_->text().trimmed().toStdString();
        const double bar = bar_->value();
        change(tr("Section %1 from bar %2").arg(name_->text().trimmed()).arg(bar),
               [=](Song& s) { return addSection(s, wanted, bar); });
    };
    addButton(row, tr("Begin a section"), "addSection", tr("It ends where the next one begins"), add);
    connect(name_, &QLineEdit::returnPressed, this, add);
    remove_ = addButton(row, tr("Remove"), "removeSection", tr("The section before goes on"), [this] {
        const int at = chosen();
        if (!sum_.song() || at < 0 || std::size_t(at) >= sum_.song()->sections.size()) return;
        const QString gone = text(sum_.song()->sections[std::size_t(at)].name);
        change(tr("Section removed: %1").arg(gone), [at](Song& s) -> Outcome {
            s.sections.erase(s.sections.begin() + at);
            return Done{};
        });
    });
    row->addStretch(2);
    table_ = named(new QTableWidget(0, 8, this), "sectionTable",
                   tr("Sections: where they are, loudness, peak, width, mono"));
    table_->setHorizontalHeaderLabels({tr("section"), tr("from bar"), tr("seconds"), tr("LUFS"), tr("to the first, LU"),
                                       tr("peak, dBFS"), tr("width"), tr("mono loses, dB")});
    for (int c = 0; c < table_->columnCount(); ++c)
        table_->horizontalHeaderItem(c)->setTextAlignment((c == kName ? Qt::AlignLeft : Qt::AlignRight) |
                                                          Qt::AlignVCenter);
    table_->verticalHeader()->hide();
    table_->verticalHeader()->setDefaultSectionSize(28);
    table_->setShowGrid(false);
    table_->horizontalHeader()->setHighlightSections(false);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setSelectionMode(QAbstractItemView::SingleSelection);
    table_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    table_->setTabKeyNavigation(false);
    shareByContent(table_);
    connect(table_, &QTableWidget::currentCellChanged, this, [this] {
        if (!refreshing_) show();
    });
    column->addWidget(table_);
}

int SongPage::chosen() const { return table_->currentRow(); }

/// Changes the song in hand, or says why not.
void SongPage::change(const QString& said, const std::function<Outcome(Song&)>& work)
{
    if (!sum_.song()) return;
    if (const auto done = sum_.change(said, "song", work); !done) tellFailure(done.error());
}

void SongPage::refresh()
{
    if (!isVisible()) return; // what nobody looks at is not rendered
    sum_.look();
    show();
}

void SongPage::show()
{
    const auto spans = sum_.song() ? spansOf(*sum_.song(), endOf(*sum_.song())) : std::vector<SectionSpan>{};
    fillTable(spans);
    std::vector<PlottedSection> shown;
    const auto& report = sum_.report();
    for (std::size_t i = 0; i < spans.size(); ++i) {
        PlottedSection one{text(spans[i].name), spans[i].fromS, spans[i].toS, std::nullopt, int(i) == chosen()};
        if (report && i < report->spans.size() && report->spans[i].span == spans[i])
            one.lufs = report->spans[i].integratedLufs;
        shown.push_back(std::move(one));
    }
    plot_->setSong(report ? report->shortTermLufs : std::vector<float>{},
                   report        ? double(report->frames) / report->rateHz
                   : sum_.song() ? endOf(*sum_.song())
                                 : 0.0,
                   std::move(shown));
    sentence_->setText(sentence());
    remove_->setEnabled(chosen() >= 0 && chosen() < int(spans.size()));
}

/// The first section, and the one that differs most from it.
QString SongPage::sentence() const
{
    if (!sum_.trouble().isEmpty()) return sum_.trouble();
    const auto& report = sum_.report();
    if (!report)
        return sum_.isBusy() ? tr("Measuring the song \u2026") : tr("Bring takes into the song: it is measured here.");
    const QString whole = tr("The song is at %1 LUFS, peak %2 dBTP")
                              .arg(figure(report->loudness.integratedLufs, 1), figure(report->truePeakDbtp, 1));
    if (report->spans.size() < 2 || !report->spans[0].integratedLufs) return whole + tr(".");
    const SectionFigures& first = report->spans[0];
    const SectionFigures* other = nullptr;
    for (const SectionFigures& s : report->spans)
        if (s.integratedLufs && s.span.name != first.span.name &&
            (!other || std::abs(*s.integratedLufs - *first.integratedLufs) >
                           std::abs(*other->integratedLufs - *first.integratedLufs)))
            other = &s;
    if (!other) return whole + tr(".");
    const double louder = *other->integratedLufs - *first.integratedLufs;
    QString out = whole + tr("; \u201c%1\u201d is %2 LU %3")
                              .arg(text(other->span.name), figure(std::abs(louder), 1),
                                   louder < 0.0 ? tr("softer") : tr("louder"));
    if (other->width && first.width && *first.width > 0.0)
        out += tr(" and %1 % %2")
                   .arg(std::abs(100.0 * (*other->width / *first.width - 1.0)), 0, 'f', 0)
                   .arg(*other->width < *first.width ? tr("narrower") : tr("wider"));
    return out + tr(" than \u201c%1\u201d.").arg(text(first.span.name));
}

void SongPage::fillTable(const std::vector<SectionSpan>& spans)
{
    refreshing_ = true;
    const int row = chosen();
    table_->setRowCount(int(spans.size()));
    const auto& report = sum_.report();
    const BarGrid grid = sum_.song() ? sum_.song()->grid() : BarGrid(120.0, "4/4");
    std::optional<double> firstLufs;
    for (std::size_t i = 0; i < spans.size(); ++i) {
        const SectionFigures none{spans[i], {}, {}, {}, {}};
        const bool isMeasured = report && i < report->spans.size() && report->spans[i].span == spans[i];
        const SectionFigures& own = isMeasured ? report->spans[i] : none;
        if (i == 0) firstLufs = own.integratedLufs;
        const auto against =
            own.integratedLufs && firstLufs && i > 0 ? std::optional(*own.integratedLufs - *firstLufs) : std::nullopt;
        const QString cells[] = {text(spans[i].name),
                                 QString::number(grid.barAt(spans[i].fromS), 'f', 0),
                                 QString::number(spans[i].toS - spans[i].fromS, 'f', 1),
                                 figure(own.integratedLufs, 1),
                                 figure(against, 1, true),
                                 figure(own.peakDbfs, 1),
                                 figure(own.width, 2),
                                 figure(own.monoLossDb, 1)};
        for (int c = 0; c < table_->columnCount(); ++c) {
            auto* item = new QTableWidgetItem(cells[c]);
            if (c != kName) {
                item->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
                item->setFont(Theme::instance().mono(TextSize::Normal));
            }
            table_->setItem(int(i), c, item);
        }
    }
    if (row >= 0 && row < int(spans.size())) table_->selectRow(row);
    table_->setFixedHeight(34 + 28 * std::clamp(int(spans.size()), 2, 8));
    refreshing_ = false;
}

BenchFindings SongPage::findings() const
{
    BenchFindings out{{}, tr("Name the sections: what each is to the others is measured here.")};
    if (!sum_.trouble().isEmpty()) out.found = {sumUnreadableFinding(sum_.trouble().toStdString())};
    if (sum_.report() && sum_.song()) out.found = mixFindings(*sum_.report(), sum_.warnings(), sum_.song()->name);
    return out;
}

AuditionRequest SongPage::audition() const
{
    AuditionRequest out;
    out.kind = "song";
    const auto all = sum_.plan(Effort::Playing);
    if (!all) return out;
    out.subject = tr("%1, all parts").arg(text(sum_.song()->name));
    out.slots_.push_back(mixSlot(tr("All"), all->layers, all->options));
    return out;
}

} // namespace gristle::app
