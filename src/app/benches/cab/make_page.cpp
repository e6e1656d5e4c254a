#include "app/benches/cab/make_page.h"

#include "app/benches/cab/compare_plot.h"
#include "app/benches/cab/impulse_use.h"
#include "app/widgets/column_share.h"
#include "app/widgets/figure_table.h"
#include "core/advice/impulse_findings.h"
#include "core/audio/audio_reader.h"
#include "core/audio/audio_writer.h"
#include "core/impulse/impulse_difference.h"

#include <QCheckBox>
#include <QComboBox>
#include <QFileDialog>
#include <QHeaderView>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QVBoxLayout>
#include <fmt/format.h>

namespace gristle::app {

using namespace core;

namespace {

enum Column { kFile, kGain, kDelay, kOver, kSide, kMoved, kColumns };
constexpr std::size_t kMostParts = 8;

QString nameOf(const BlendPart& part) { return QString::fromStdString(part.file.stem().string()); }

} // namespace

MakePage::MakePage(const BenchContext& context, QWidget* parent)
    : BenchPage(context, tr("Make"), tr("What do these make together?"), parent)
{
    askFiles = [this] {
        return QFileDialog::getOpenFileNames(this, tr("Impulses"), QString(),
                                             tr("Audio (*.wav *.flac *.aif *.aiff *.w64)"));
    };
    askSave = [this] {
        return QFileDialog::getSaveFileName(this, tr("Write the impulse"), QString(), tr("WAV (*.wav)"));
    };
    build();
    connect(&session(), &SessionModel::closing, this, [this] {
        make_.waitForDone();
        recipe_ = {};
        made_.reset();
        fillTable();
        tell();
    });
    connect(&Theme::instance(), &Theme::changed, this, &MakePage::fillTable);
    fillTable();
    tell();
}

void MakePage::build()
{
    auto* column = layOut("makeSentence", sentence_);
    table_ = new QTableWidget(0, kColumns, this);
    table_->setObjectName("makeTable");
    table_->setAccessibleName(tr("Impulses and what is done to each before they are summed"));
    layOutTable(*table_,
                {tr("impulse"), tr("gain, dB"), tr("later, samples"), tr("inverted"), tr("side"), tr("earlier by")},
                {kGain, kDelay, kMoved});
    table_->horizontalHeaderItem(kOver)->setToolTip(tr("Polarity inverted in the sum"));
    table_->horizontalHeaderItem(kMoved)->setToolTip(tr("What aligning moves it earlier by"));
    shareByContent(table_);
    connect(table_, &QTableWidget::cellChanged, this, [this](int row, int col) {
        if (!refreshing_) changeRow(row, col);
    });
    connect(table_, &QTableWidget::itemSelectionChanged, this,
            [this] { remove_->setEnabled(table_->currentRow() >= 0); });
    column->addWidget(table_);

    auto* under = addRow(column);
    const auto box = [&](QHBoxLayout* into, const QString& text, const char* name, const QString& about, bool& value) {
        auto* b = named(new QCheckBox(text, this), name, about);
        connect(b, &QCheckBox::toggled, this, [this, &value](bool on) {
            value = on;
            if (!refreshing_) change();
        });
        into->addWidget(b);
        return b;
    };
    addButton(under, tr("Add \u2026"), "makeAdd", tr("Impulse files to sum"), [this] {
        for (const QString& file : askFiles()) addPart(file);
    });
    remove_ = addButton(under, tr("Remove"), "makeRemove", tr("Take the chosen part away"), [this] {
        const int row = table_->currentRow();
        if (row < 0 || row >= int(recipe_.parts.size())) return;
        recipe_.parts.erase(recipe_.parts.begin() + row);
        change();
    });
    under->addStretch(1);
    align_ = box(under, tr("brought together"), "makeAlign",
                 tr("All to the first one's arrival and polarity, before their own delays"), recipe_.align);

    auto* edits = addRow(column, 0);
    trim_ = box(edits, tr("trim "), "makeTrim", tr("From 1 ms before the arrival"), recipe_.edit.trim);
    const auto figure = [&](const QString& label, const QString& unit, const char* name, double low, double high,
                            double& value) {
        auto* b = new FigureBox(label, unit, name, low, high, 0, this);
        connect(b, &FigureBox::changed, this, [this, &value](double v) {
            value = v;
            change();
        });
        edits->addWidget(b);
        return b;
    };
    length_ = figure(tr("length"), tr("ms"), "makeLength", 0.0, 20000.0, recipe_.edit.lengthMs);
    lowCut_ = figure(tr("low cut"), tr("Hz"), "makeLowCut", 0.0, 2000.0, recipe_.edit.lowCutHz);
    highCut_ = figure(tr("high cut"), tr("Hz"), "makeHighCut", 0.0, 20000.0, recipe_.edit.highCutHz);
    for (FigureBox* b : {length_, lowCut_, highCut_}) b->setOffAtZero();
    air_ = figure(tr("air"), tr("dB"), "makeAir", -12.0, 12.0, recipe_.edit.airDb);
    edits->addStretch(1);
    auto* forms = addRow(column);
    early_ = box(forms, tr("minimum phase"), "makeEarly", tr("The same response, as early as it can be"),
                 recipe_.edit.minimumPhase);
    match_ = box(forms, tr("as loud as without it"), "makeMatch", tr("By the loudness of pink noise, not by its peak"),
                 recipe_.edit.match);
    forms->addStretch(1);

    plot_ = new ComparePlot(this);
    plot_->setObjectName("makePlot");
    plot_->setEmptyText(tr("Add impulses: what they make together is drawn here."));
    column->addWidget(plot_, 1);
    auto* row = addRow(column);
    name_ = named(new QLineEdit(this), "makeName", tr("Name of what is kept"));
    name_->setPlaceholderText(tr("name"));
    row->addWidget(name_, 1);
    write_ = addButton(row, tr("Write WAV \u2026"), "makeWrite", tr("Writes it to a file of its own"), [this] {
        const QString file = askSave();
        if (file.isEmpty() || !made_) return;
        if (const auto wrote = writeRecording(file.toStdString(), made_->impulse.impulse); !wrote)
            tellFailure(wrote.error());
    });
    keep_ = addButton(row, tr("Keep as impulse"), "makeKeep", tr("Keeps it in the session"), [this] { keep(false); });
    intoRig_ = addButton(row, tr("Into the rig"), "makeIntoRig", tr("Keeps it and puts it into the rig in hand"),
                         [this] { keep(true); });
}

void MakePage::addPart(const QString& file)
{
    if (recipe_.parts.size() >= kMostParts)
        return void(emit failed(tr("A sum of %1 impulses is enough").arg(kMostParts), tr("remove one first")));
    BlendPart part;
    part.file = file.toStdString();
    recipe_.parts.push_back(part);
    change();
}

Result<MakePage::Made> MakePage::madeOf(const ImpulseRecipe& recipe)
{
    const auto blend = blendImpulses(recipe.parts, recipe.align);
    if (!blend) return blend.error();
    auto edited = editImpulse(blend->sum, recipe.edit);
    if (!edited) return edited.error();
    Made out;
    out.recipe = recipe;
    out.response = smoothedResponse(edited->impulse.audio.channel(0), edited->impulse.sampleRateHz);
    out.impulse = std::move(*edited);
    out.alignedSamples = blend->alignedSamples;
    for (const BlendPart& part : recipe.parts) {
        const auto read = readRecording(part.file);
        if (!read) return read.error();
        out.parts.push_back(smoothedResponse(read->audio.channel(0), read->sampleRateHz));
    }
    return out;
}

/// Makes it anew; what is shown stays until then.
void MakePage::change()
{
    fillTable();
    trouble_.clear();
    if (recipe_.parts.empty()) {
        make_.cancel();
        made_.reset();
        tell();
        emit auditionChanged();
        return;
    }
    using Answer = std::shared_ptr<Result<Made>>;
    make_.run<Answer>(
        tr("Summing impulses"),
        [recipe = recipe_](const Progress&) { return std::make_shared<Result<Made>>(madeOf(recipe)); },
        [this](Answer made) {
            made_.reset();
            if (*made)
                made_ = std::move(**made);
            else
                trouble_ = QString::fromStdString(made->error().line());
            fillTable();
            tell();
            emit stateChanged();
            emit auditionChanged();
        });
    tell();
    emit stateChanged();
}

void MakePage::fillTable()
{
    refreshing_ = true;
    const int current = table_->currentRow();
    const auto& parts = recipe_.parts;
    table_->setRowCount(int(parts.size()));
    for (std::size_t i = 0; i < parts.size(); ++i) {
        const int row = int(i);
        const BlendPart& part = parts[i];
        auto* file = wordCell(nameOf(part));
        file->setToolTip(QString::fromStdString(part.file.string()));
        table_->setItem(row, kFile, file);
        table_->setItem(row, kGain, figureCell(shownFigure(part.gainDb, 1), true));
        table_->setItem(row, kDelay, figureCell(shownFigure(part.delaySamples, 2), true));
        auto* over = wordCell(QString());
        over->setFlags(over->flags() | Qt::ItemIsUserCheckable);
        over->setCheckState(part.invert ? Qt::Checked : Qt::Unchecked);
        table_->setItem(row, kOver, over);
        auto* side = qobject_cast<QComboBox*>(table_->cellWidget(row, kSide));
        if (!side) {
            side = named(new QComboBox(table_), ("makeSide." + std::to_string(i)).c_str(), tr("Which side it goes to"));
            side->addItems({tr("both"), tr("left"), tr("right")});
            connect(side, &QComboBox::activated, this, [this, i](int index) {
                if (i >= recipe_.parts.size()) return;
                recipe_.parts[i].side = BlendSide(index);
                change();
            });
            table_->setCellWidget(row, kSide, side);
        }
        side->setCurrentIndex(int(part.side));
        const bool isTold = made_ && made_->alignedSamples.size() == parts.size() && recipe_.align;
        table_->setItem(row, kMoved,
                        figureCell(isTold ? shownFigure(made_->alignedSamples[i], 2) : QString(QChar(0x2013))));
    }
    table_->setFixedHeight(34 + 28 * std::clamp(int(parts.size()), 1, 5) + 2);
    if (!parts.empty()) table_->selectRow(std::clamp(current, 0, int(parts.size()) - 1));
    remove_->setEnabled(!parts.empty());
    align_->setChecked(recipe_.align);
    trim_->setChecked(recipe_.edit.trim);
    early_->setChecked(recipe_.edit.minimumPhase);
    match_->setChecked(recipe_.edit.match);
    length_->setValue(recipe_.edit.lengthMs);
    lowCut_->setValue(recipe_.edit.lowCutHz);
    highCut_->setValue(recipe_.edit.highCutHz);
    air_->setValue(recipe_.edit.airDb);
    refreshing_ = false;
}

void MakePage::changeRow(int row, int column)
{
    if (row < 0 || row >= int(recipe_.parts.size())) return;
    BlendPart& part = recipe_.parts[std::size_t(row)];
    if (column == kOver) {
        part.invert = table_->item(row, column)->checkState() == Qt::Checked;
        return change();
    }
    if (column != kGain && column != kDelay) return;
    const auto typed = typedFigure(table_->item(row, column)->text());
    const double most = column == kGain ? 120.0 : 192000.0;
    if (!typed || std::abs(*typed) > most) {
        emit failed(tr("'%1' is no figure from \u2212%2 to %2").arg(table_->item(row, column)->text()).arg(most),
                    tr("type another"));
        return fillTable();
    }
    (column == kGain ? part.gainDb : part.delaySamples) = *typed;
    change();
}

void MakePage::tell()
{
    const bool isReady = made_ && !make_.isBusy(); // what is shown is what is asked for
    for (auto* b : {keep_, intoRig_, write_}) b->setEnabled(isReady);
    intoRig_->setEnabled(isReady && session().isOpen() && session().layer());
    if (!trouble_.isEmpty()) {
        sentence_->setText(trouble_);
        plot_->setCurves({}, {});
        return;
    }
    if (!made_) {
        sentence_->setText(make_.isBusy() ? tr("Summing \u2026")
                                          : tr("Nothing yet: add impulses, or send them here from Impulses."));
        plot_->setCurves({}, {});
        return;
    }
    const QString first = nameOf(made_->recipe.parts.front());
    sentence_->setText(
        tr("Against %1 alone: %2.")
            .arg(first, QString::fromStdString(differenceWords(differenceOf(made_->response, made_->parts.front())))));
    std::vector<ComparePlot::Curve> curves;
    curves.push_back({tr("together"), differenceOf(made_->response, made_->parts.front())});
    for (std::size_t i = 1; i < made_->parts.size(); ++i)
        curves.push_back({nameOf(made_->recipe.parts[i]), differenceOf(made_->parts[i], made_->parts.front())});
    plot_->setCurves(first, std::move(curves));
}

QString MakePage::recipeText() const
{
    QStringList parts;
    for (const BlendPart& p : made_->recipe.parts)
        parts << QString::fromStdString(fmt::format("{} {:g} dB, {:g} samples later{}{}", p.file.filename().string(),
                                                    p.gainDb, p.delaySamples, p.invert ? ", inverted" : "",
                                                    p.side == BlendSide::Left    ? ", left"
                                                    : p.side == BlendSide::Right ? ", right"
                                                                                 : ""));
    const ImpulseEdit& e = made_->recipe.edit;
    QStringList edits;
    if (made_->recipe.align) edits << tr("brought together");
    if (e.trim) edits << tr("trimmed");
    if (e.lengthMs > 0.0) edits << tr("%1 ms long").arg(e.lengthMs);
    if (e.minimumPhase) edits << tr("minimum phase");
    if (e.lowCutHz > 0.0) edits << tr("low cut %1 Hz").arg(e.lowCutHz);
    if (e.highCutHz > 0.0) edits << tr("high cut %1 Hz").arg(e.highCutHz);
    if (e.airDb != 0.0) edits << tr("air %1 dB").arg(e.airDb);
    if (e.match) edits << tr("as loud as without");
    return parts.join("; ") + (edits.isEmpty() ? QString() : " \u2192 " + edits.join(", "));
}

void MakePage::keep(bool intoRig)
{
    if (!made_ || !session().isOpen()) return;
    QString name = name_->text().trimmed();
    if (name.isEmpty()) name = tr("%1 and more").arg(nameOf(made_->recipe.parts.front()));
    const auto kept = session().rigs().addImpulse(made_->impulse.impulse, name, recipeText());
    if (!kept) return tellFailure(kept.error());
    session().note("impulse", tr("Impulse %1 made of %2").arg(QString::fromStdString(*kept), recipeText()));
    if (intoRig && session().layer()) putIntoRig(session(), *kept);
    emit stateChanged();
}

BenchFindings MakePage::findings() const
{
    BenchFindings out{{}, tr("Add two or more, then listen to them below, as loud.")};
    if (!made_) return out;
    out.found = shortenedFindings(made_->impulse.keptFromHz);
    if (!made_->recipe.align)
        for (Finding& f : cancelFindings(made_->recipe.parts, made_->parts, made_->response, made_->impulse.gainDb))
            out.found.push_back(std::move(f));
    return out;
}

Remedies MakePage::remedies()
{
    return {{"impulse.cancel", {tr("Bring together"), [this] {
                                    recipe_.align = true;
                                    change();
                                }}}};
}

AuditionRequest MakePage::audition() const
{
    if (!session().isOpen() || !made_) return {};
    return hearImpulses(session(), {{tr("Made"), {}, std::make_shared<const Recording>(made_->impulse.impulse)}});
}

} // namespace gristle::app
