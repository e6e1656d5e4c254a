#include "app/benches/blend/places_page.h"

#include "app/benches/blend/place_ruler.h"
#include "app/models/slots.h"
#include "app/widgets/column_share.h"
#include "core/actions/meet_layers.h"
#include "core/advice/file_findings.h"
#include "core/advice/mix_findings.h"
#include "core/advice/stereo_findings.h"
#include "core/mix/render/sound_key.h"
#include "core/session/layer_role.h"
#include "core/units/number_text.h"

#include <QComboBox>
#include <QHeaderView>
#include <QLabel>
#include <QPushButton>
#include <QShortcut>
#include <QTableWidget>
#include <QVBoxLayout>

namespace gristle::app {

using namespace core;

namespace {

enum Column { kName, kPlace, kGain, kLoudness, kBody, kRig };

QString bodyText(std::optional<double> bodyDb, std::optional<double> usualDb)
{
    if (!bodyDb) return QString(QChar(0x2013));
    const QString figure = QString::fromStdString(figureText(*bodyDb, 1));
    switch (usualDb ? bodyOf(*bodyDb, *usualDb) : Body::Even) {
    case Body::Thin: return QObject::tr("thin %1").arg(figure);
    case Body::Thick: return QObject::tr("thick %1").arg(figure);
    case Body::Even: return figure;
    }
    return figure;
}

QTableWidgetItem* cell(const QString& text, bool editable, bool figure)
{
    auto* item = new QTableWidgetItem(text);
    item->setFlags(Qt::ItemIsSelectable | Qt::ItemIsEnabled | (editable ? Qt::ItemIsEditable : Qt::NoItemFlags));
    if (figure) {
        item->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
        item->setFont(Theme::instance().mono(TextSize::Normal, editable));
    }
    return item;
}

QString shownFigure(const std::optional<double>& v, int digits)
{
    return v ? QString::fromStdString(figureText(*v, digits)) : QString(QChar(0x2013));
}

} // namespace

PlacesPage::PlacesPage(const BenchContext& context, QWidget* parent)
    : BenchPage(context, tr("Places"), tr("Do the sides make one picture?"), parent)
{
    build();
    for (auto signal : {&SessionModel::rigChanged, &SessionModel::takesChanged, &SessionModel::placingChanged,
                        &SessionModel::pathChanged})
        connect(&session(), signal, this, &PlacesPage::refresh);
    connect(&session(), &SessionModel::closing, this, [this] { report_.reset(), measuredOf_.clear(); });
    connect(&audition_(), &Audition::changed, this, [this] { mono_->setChecked(audition_().isMono()); });
    connect(&Theme::instance(), &Theme::changed, this, &PlacesPage::refresh);
}

void PlacesPage::build()
{
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(6);
    auto* head = addRow(column);
    readings_ = new QLabel(this);
    readings_->setObjectName("blendReadings");
    readings_->setWordWrap(true);
    head->addWidget(readings_, 1);
    mono_ = new QPushButton(tr("Hear mono"), this);
    mono_->setObjectName("hearMono");
    mono_->setAccessibleName(tr("Hear both sides summed to mono"));
    mono_->setToolTip(tr("Both sides summed, at half each (M)"));
    mono_->setCheckable(true);
    connect(mono_, &QPushButton::clicked, this, [this](bool on) { audition_().setMono(on); });
    auto* match = new QPushButton(tr("Match loudness"), this);
    match->setObjectName("matchLoudness");
    match->setToolTip(tr("Bring all layers to the loudness of the first, as a gain that is kept"));
    connect(match, &QPushButton::clicked, this, &PlacesPage::matchLoudness);
    law_ = new QComboBox(this);
    law_->setObjectName("placeLaw");
    law_->setAccessibleName(tr("What the centre loses"));
    law_->addItems({tr("centre \u22123 dB"), tr("centre \u22124.5 dB"), tr("centre \u22126 dB")});
    law_->setToolTip(tr("\u22123 dB keeps the power of a sound that moves, \u22126 dB its level in mono"));
    connect(law_, &QComboBox::activated, this, [this](int index) {
        session().edit(tr("Place law changed"), "place",
                       [&](SessionDocument& d) { d.law = static_cast<PanLaw>(index); });
    });
    head->addWidget(law_);
    head->addWidget(match);
    head->addWidget(mono_);
    ruler_ = new PlaceRuler(this);
    connect(ruler_, &PlaceRuler::choose, this, [this](int i) {
        LayerPath path = session().path();
        path.layer = shown_[std::size_t(i)];
        session().setPath(path);
    });
    connect(ruler_, &PlaceRuler::move, this, [this](int i, double place) {
        const Layer& l = session().part()->layers[shown_[std::size_t(i)]];
        setLayerValue(i, place, l.gainDb, tr("%1 placed at %2").arg(QString::fromStdString(l.name)).arg(place));
    });
    column->addWidget(ruler_, 3);
    addHearing(column);
    table_ = new QTableWidget(0, 6, this);
    table_->setObjectName("layerTable");
    table_->setAccessibleName(tr("Layers: place, gain and loudness"));
    table_->setHorizontalHeaderLabels(
        {tr("layer"), tr("place"), tr("gain, dB"), tr("LUFS"), tr("body, dB"), tr("rig")});
    for (const int col : {kName, kRig})
        table_->horizontalHeaderItem(col)->setTextAlignment(Qt::AlignLeft | Qt::AlignVCenter);
    for (const int col : {kPlace, kGain, kLoudness, kBody})
        table_->horizontalHeaderItem(col)->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
    table_->verticalHeader()->hide();
    table_->setShowGrid(false);
    table_->horizontalHeader()->setHighlightSections(false);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setSelectionMode(QAbstractItemView::SingleSelection);
    table_->horizontalHeader()->setDefaultAlignment(Qt::AlignLeft);
    shareByContent(table_);
    table_->verticalHeader()->setDefaultSectionSize(28);
    table_->setTabKeyNavigation(false);
    table_->setToolTip(
        tr("Place from \u2212100 (left) to 100 (right), gain in dB: type a figure and press Enter. Body: "
           "power around 125 and 250 Hz over the whole; thin and thick against the other layers"));
    connect(table_, &QTableWidget::cellChanged, this, [this](int row, int col) {
        if (refreshing_ || (col != kPlace && col != kGain)) return;
        const Layer& l = session().part()->layers[shown_[std::size_t(row)]];
        QString text = table_->item(row, col)->text();
        text.replace(QChar(0x2212), '-');
        const auto value = parseNumber(text.trimmed().toStdString());
        const double most = col == kPlace ? 100.0 : 60.0;
        if (!value || std::abs(*value) > most) {
            emit failed(tr("%1: %2 is no figure in range").arg(QString::fromStdString(l.name), text),
                        tr("write a number from \u2212%1 to %1").arg(most));
            return fillTable();
        }
        if (col == kPlace)
            setLayerValue(row, *value, l.gainDb, tr("%1 placed at %2").arg(QString::fromStdString(l.name)).arg(*value));
        else
            setLayerValue(row, l.place, *value, tr("%1 gain %2 dB").arg(QString::fromStdString(l.name)).arg(*value));
    });
    connect(table_, &QTableWidget::currentCellChanged, this, [this](int row) {
        if (refreshing_ || row < 0 || std::size_t(row) >= shown_.size()) return;
        LayerPath path = session().path();
        path.layer = shown_[std::size_t(row)];
        session().setPath(path);
    });
    column->addWidget(table_);
    auto* plots = new QHBoxLayout;
    plots->setSpacing(18);
    loss_ =
        new BandPlot(tr("What mono loses, dB (alike \u22123, unrelated 0)"), -6.0, 12.0, {-3, 0, 3, 6, 9, 12}, this);
    loss_->setObjectName("lossPlot");
    correlation_ = new BandPlot(tr("Left against right, correlation"), -1.0, 1.0, {-1, -0.5, 0, 0.5, 1}, this);
    correlation_->setObjectName("correlationPlot");
    plots->addWidget(loss_);
    plots->addWidget(correlation_);
    column->addLayout(plots, 3);
}

/// What is heard of the part, by one key each; the loop goes on.
void PlacesPage::addHearing(QVBoxLayout* column)
{
    auto* row = addRow(column);
    const auto button = [&](const QString& label, const char* name, const QString& about, Qt::Key key,
                            bool Heard::*what, bool Heard::*instead) {
        QPushButton* b =
            addButton(row, label, name, tr("%1 (%2)").arg(about, QKeySequence(key).toString()), [this, what, instead] {
                heard_.*what = !(heard_.*what);
                if (instead) heard_.*instead = false;
                showHearing();
                emit auditionChanged();
            });
        b->setCheckable(true);
        connect(new QShortcut(key, this), &QShortcut::activated, b, &QPushButton::click);
        return b;
    };
    only_ = button(tr("Only this"), "hearOnly", tr("Hear only the layer in hand"), Qt::Key_O, &Heard::only,
                   &Heard::without);
    without_ = button(tr("Without this"), "hearWithout", tr("Hear the part without the layer in hand"), Qt::Key_W,
                      &Heard::without, &Heard::only);
    exchanged_ = button(tr("Sides exchanged"), "hearExchanged", tr("Hear left on the right and right on the left"),
                        Qt::Key_E, &Heard::exchanged, nullptr);
    band_ =
        button(tr("With the band"), "hearBand", tr("Hear the song's backing too"), Qt::Key_B, &Heard::band, nullptr);
    row->addStretch(1);
}

void PlacesPage::showHearing()
{
    const Song* song = session().isOpen() ? session().song() : nullptr;
    const bool hasBand = song && std::ranges::any_of(song->parts, [](const Part& part) {
                             return std::ranges::any_of(part.layers, [](const Layer& l) {
                                 return isOfTheBand(l.role) && isInMix(l.role) && !l.takes.empty();
                             });
                         });
    band_->setEnabled(hasBand);
    if (!hasBand) heard_.band = false;
    only_->setChecked(heard_.only);
    without_->setChecked(heard_.without);
    exchanged_->setChecked(heard_.exchanged);
    band_->setChecked(heard_.band);
}

/// What of a plan of the part in hand is heard. Its layers are those shown, in order.
MixPlan PlacesPage::heardOf(MixPlan plan) const
{
    std::vector<MixLayer> kept;
    for (std::size_t i = 0; i < plan.layers.size() && i < shown_.size(); ++i) {
        const bool isInHand = shown_[i] == session().path().layer;
        if ((heard_.only && !isInHand) || (heard_.without && isInHand)) continue;
        kept.push_back(plan.layers[i]);
        if (heard_.exchanged) kept.back().place = -kept.back().place;
    }
    if (!kept.empty()) plan.layers = std::move(kept); // a layer without a take is in hand: all
    if (heard_.band)
        if (const auto band = planBand(session().folder(), *session().song(), true))
            plan.layers.insert(plan.layers.end(), band->layers.begin(), band->layers.end());
    return plan;
}

QString PlacesPage::heardText() const
{
    const QString layer = session().layer() ? QString::fromStdString(session().layer()->name) : QString();
    QString out = heard_.only      ? tr("Only %1").arg(layer)
                  : heard_.without ? tr("Without %1").arg(layer)
                                   : tr("As placed");
    if (heard_.exchanged) out += tr(", exchanged");
    if (heard_.band) out += tr(", band");
    return out;
}

/// The part in hand as a sum; where it cannot be made, why.
Result<MixPlan> PlacesPage::plan(Effort effort) const
{
    auto out = planMix(session().folder(), *session().song(), *session().part(), true);
    if (out)
        for (MixLayer& l : out->layers) l.recipe.effort = effort;
    return out;
}

void PlacesPage::refresh()
{
    isOld_ = !isVisible(); // what nobody looks at is not rendered
    if (!session().isOpen()) return;
    shown_.clear();
    if (const Part* part = session().part())
        for (std::size_t i = 0; i < part->layers.size(); ++i)
            if (!part->layers[i].takes.empty() && isInMix(part->layers[i].role)) shown_.push_back(i);
    law_->setCurrentIndex(static_cast<int>(session().document().law));
    if (isOld_) return void(emit stateChanged());
    showHearing();
    fillTable();
    measure();
}

void PlacesPage::fillTable()
{
    refreshing_ = true;
    table_->setRowCount(int(shown_.size()));
    std::vector<PlacedLayer> placed;
    std::optional<double> loudest;
    const bool measured = report_ && report_->layers.size() == shown_.size();
    if (measured)
        for (const auto& l : report_->layers)
            if (l.integratedLufs) loudest = std::max(loudest.value_or(-200.0), *l.integratedLufs);
    for (std::size_t i = 0; i < shown_.size(); ++i) {
        const Layer& layer = session().part()->layers[shown_[i]];
        const bool chosen = shown_[i] == session().path().layer;
        const auto lufs = measured ? report_->layers[i].integratedLufs : std::nullopt;
        const int row = int(i);
        table_->setItem(row, kName, cell(QString::fromStdString(layer.name), false, false));
        table_->setItem(row, kPlace, cell(QString::fromStdString(figureText(layer.place, 0)), true, true));
        table_->setItem(row, kGain, cell(QString::fromStdString(signedText(layer.gainDb)), true, true));
        table_->setItem(row, kLoudness, cell(shownFigure(lufs, 1), false, true));
        table_->setItem(
            row, kBody,
            cell(measured ? bodyText(report_->layers[i].bodyDb, usualBody(report_->layers)) : QString(QChar(0x2013)),
                 false, true));
        table_->setItem(
            row, kRig,
            cell(layer.rig.empty() ? tr("dry") : QString::fromStdString(layer.rig).section('/', -1).chopped(5), false,
                 false));
        if (chosen) table_->selectRow(row);
        placed.push_back({QString::fromStdString(layer.name), layer.place,
                          lufs && loudest ? std::optional(*lufs - *loudest) : std::nullopt, chosen});
    }
    table_->setFixedHeight(32 + 28 * std::clamp(int(shown_.size()), 1, 4) + 2);
    ruler_->setLayers(std::move(placed));
    refreshing_ = false;
}

void PlacesPage::measure()
{
    trouble_.clear();
    const auto plan = session().part() && !shown_.empty() ? std::optional(this->plan(Effort::Draft)) : std::nullopt;
    if (plan && !*plan) trouble_ = QString::fromStdString(plan->error().line());
    if (!plan || !*plan) {
        task_.cancel();
        report_.reset(), measuredOf_.clear(), meetings_.clear();
        meetTask_.cancel();
        showReport();
        emit stateChanged();
        return;
    }
    const std::string key = soundKey((*plan)->layers, (*plan)->options);
    if (key == measuredOf_) return;
    measuredOf_ = key, warnings_ = (*plan)->warnings;
    struct Answer {
        Result<MixReport> report;
        std::vector<CopiedPerformance> copies;
    };
    task_.run<std::shared_ptr<Answer>>(
        tr("Measuring the sum"),
        [plan = **plan, cache = session().renders()](const Progress& p) {
            auto copies = predictCopies(plan.layers, plan.options, {p.stop, nullptr}, cache.get());
            auto report = mixDown(
                plan.layers, plan.options, [](const AudioBuffer&) -> Outcome { return Done{}; }, p, cache.get());
            return std::make_shared<Answer>(
                Answer{std::move(report), copies ? std::move(*copies) : std::vector<CopiedPerformance>()});
        },
        [this, plan = **plan](std::shared_ptr<Answer> answer) {
            report_.reset();
            meetings_.clear();
            if (answer->report) meet(plan);
            copies_ = std::move(answer->copies);
            if (answer->report)
                report_ = std::move(*answer->report);
            else
                measuredOf_.clear();
            if (!answer->report && answer->report.error().code != ErrorCode::Cancelled)
                trouble_ = QString::fromStdString(answer->report.error().line());
            fillTable();
            showReport();
            emit stateChanged();
        });
}

/// Behind the figures of the sum, since it takes longer: which layers work against each other.
void PlacesPage::meet(const MixPlan& plan)
{
    using Met = std::shared_ptr<Result<std::vector<Finding>>>;
    meetTask_.run<Met>(
        tr("Looking where the layers meet"),
        [plan, cache = session().renders()](const Progress& p) {
            return std::make_shared<Result<std::vector<Finding>>>(meetLayers(plan.layers, plan.options, p, *cache));
        },
        [this](Met met) {
            if (*met) meetings_ = std::move(**met);
            emit stateChanged();
        });
}

/// The layer that a finding of meetLayers() names.
std::optional<LayerPath> PlacesPage::metLayer(const Finding& finding) const
{
    LayerPath path = session().path();
    for (const std::size_t i : shown_)
        if (session().part()->layers[i].name == finding.subject) return path.layer = i, path;
    return std::nullopt;
}

void PlacesPage::showReport()
{
    if (!report_) {
        readings_->setText(trouble_.isEmpty() ? QString() : trouble_);
        loss_->setCurve({}, -3.0, 3.0);
        correlation_->setCurve({}, 0, 0);
        return;
    }
    const StereoResult& s = report_->stereo;
    const QString mono = Theme::instance().mono().family(), small = ink(Token::Ink2).name();
    const auto figure = [&](const std::optional<double>& v, int digits) {
        return QStringLiteral("<span style='font-family:\"%1\";font-weight:600;font-size:16px'>%2</span>")
            .arg(mono, shownFigure(v, digits));
    };
    readings_->setText(tr("mono loses %1 <span style='color:%6'>dB (alike \u22123, unrelated 0)</span> &nbsp; width %2 "
                          "&nbsp; correlation %3 &nbsp; sum %4 <span style='color:%6'>LUFS</span> &nbsp; peak %5 <span "
                          "style='color:%6'>dBTP</span>")
                           .arg(figure(s.monoLossDb, 1), figure(s.width, 2), figure(s.correlation, 2),
                                figure(report_->loudness.integratedLufs, 1), figure(report_->truePeakDbtp, 1), small));
    std::vector<QPointF> loss, correlation;
    for (const StereoBand& b : s.bands) {
        if (b.monoLossDb) loss.push_back({b.hz, *b.monoLossDb});
        if (b.correlation) correlation.push_back({b.hz, *b.correlation});
    }
    loss_->setCurve(std::move(loss), -3.0, 3.0);
    correlation_->setCurve(std::move(correlation), 0, 0);
}

void PlacesPage::setLayerValue(int index, double place, double gainDb, const QString& text)
{
    LayerPath path = session().path();
    path.layer = shown_[std::size_t(index)];
    session().edit(
        text, "place",
        [&](SessionDocument& d) {
            Layer& layer = *findLayer(d, path);
            layer.place = place;
            layer.gainDb = gainDb;
        },
        100 + index);
    emit auditionChanged();
}

void PlacesPage::matchLoudness()
{
    if (!report_ || report_->layers.size() != shown_.size()) return;
    std::vector<std::optional<double>> lufs;
    std::vector<double> own;
    for (const auto& l : report_->layers) { // the measured loudness has the layer's own gain in it
        lufs.push_back(l.integratedLufs ? std::optional(*l.integratedLufs - l.gainDb) : std::nullopt);
        own.push_back(l.gainDb);
    }
    const std::vector<double> gains = gainsToMatch(lufs, own);
    session().editPart(tr("Layers matched to the loudness of the first"), "gain", [&](Part& part) {
        for (std::size_t i = 0; i < shown_.size() && shown_[i] < part.layers.size(); ++i)
            part.layers[shown_[i]].gainDb = std::clamp(std::round(gains[i] * 100.0) / 100.0, -60.0, 60.0);
    });
    emit auditionChanged();
}

void PlacesPage::turnAll(double db)
{
    session().editPart(tr("All layers turned by %1 dB").arg(db), "gain", [&](Part& part) {
        for (Layer& l : part.layers) l.gainDb = std::clamp(l.gainDb + db, -60.0, 60.0);
    });
    emit auditionChanged();
}

BenchState PlacesPage::state() const
{
    if (!session().isOpen() || shown_.empty()) return {tr("not yet"), false};
    if (isOld_) return {tr("to be measured"), false};
    if (!trouble_.isEmpty()) return {tr("1 must be mended"), true};
    if (!report_) return {tr("measuring \u2026"), false};
    const QString line = severityLine(findings().found);
    if (!line.isEmpty()) return {line, true};
    return {tr("mono loses %1 dB").arg(shownFigure(report_->stereo.monoLossDb, 1)), false};
}

BenchFindings PlacesPage::findings() const
{
    BenchFindings out{{}, tr("Bring in two layers and place them: what the sum does is measured here.")};
    if (!trouble_.isEmpty()) out.found = {sumUnreadableFinding(trouble_.toStdString())};
    if (!report_) return out;
    const std::string subject = session().part() ? session().part()->name : "";
    std::vector<std::string> names;
    for (const std::size_t i : shown_) names.push_back(session().part()->layers[i].name);
    out.found = mixFindings(*report_, warnings_, subject);
    for (auto& f : copyFindings(copies_, names)) out.found.push_back(std::move(f));
    out.found.insert(out.found.end(), meetings_.begin(), meetings_.end());
    rank(out.found);
    return out;
}

Remedies PlacesPage::remedies()
{
    Remedies out;
    if (!report_) return out;
    if (report_->stereo.balanceDb) out["stereo.balance"] = {tr("Match loudness"), [this] { matchLoudness(); }};
    if (report_->truePeakDbtp && *report_->truePeakDbtp > -1.0) {
        const double down = std::floor((-1.0 - *report_->truePeakDbtp) * 10.0) / 10.0;
        out["mix.peak"] = {tr("Turn all by %1 dB").arg(QString::fromStdString(signedText(down))),
                           [this, down] { turnAll(down); }};
    }
    const auto mend = [&](const char* code, const QString& one, const QString& many, auto change) {
        std::vector<Finding> those;
        std::ranges::copy_if(meetings_, std::back_inserter(those), [&](const Finding& f) { return f.code == code; });
        if (those.empty()) return;
        const QString label = those.size() == 1 ? one.arg(QString::fromStdString(those[0].subject)) : many;
        out[code] = {label, [this, label, those, change] { // a remedy stands at each finding of its code: it mends all
                         session().edit(label, "place", [&](SessionDocument& d) {
                             for (const Finding& f : those)
                                 if (const auto path = metLayer(f)) change(*findLayer(d, *path), f);
                         });
                     }};
    };
    mend("sum.inverted", tr("Invert %1"), tr("Invert these layers"),
         [](Layer& layer, const Finding&) { layer.isInverted = !layer.isInverted; });
    mend("sum.late", tr("Bring %1 together"), tr("Bring these together"), [](Layer& layer, const Finding& f) {
        layer.earlierMs = std::clamp(layer.earlierMs + f.measured.value_or(0.0), -1000.0, 1000.0);
    });
    for (const char* code : {"stereo.mono_loss", "stereo.inverted", "stereo.low_end"})
        out[code] = {tr("Hear mono"), [this] {
                         audition_().setMono(true);
                         audition_().setPlaying(true);
                     }};
    return out;
}

AuditionRequest PlacesPage::audition() const
{
    AuditionRequest out;
    out.kind = "blend";
    const auto plan = session().isOpen() && session().part() ? this->plan(Effort::Playing) : Result<MixPlan>(MixPlan{});
    if (!plan || plan->layers.empty()) return out;
    out.subject = tr("%1, all layers").arg(QString::fromStdString(session().part()->name));
    const auto slot = [&](const QString& title, const std::vector<MixLayer>& own) {
        out.slots_.push_back(mixSlot(title, own, plan->options));
    };
    slot(heardText(), heardOf(*plan).layers);
    auto middle = plan->layers;
    for (MixLayer& l : middle) l.place = 0.0;
    slot(tr("All in the middle"), middle);
    return out;
}

} // namespace gristle::app
