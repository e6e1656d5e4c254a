#include "app/benches/rig/stage_panel.h"
#include "app/widgets/dismiss.h"
#include "app/widgets/page_stack.h"

#include "core/advice/finding.h"

#include <QButtonGroup>
#include <QLabel>
#include <QPushButton>
#include <QScrollArea>
#include <QStackedWidget>
#include <QVBoxLayout>
#include <mutex>

namespace gristle::app {

using namespace core;

namespace {

constexpr double kTravelS = 2.0; // how much of the loop the travel of a control is judged on
constexpr std::size_t kTravelPoints = 17;
constexpr int kLongestEchoBeats = 8;
constexpr std::size_t kPlaces = 3;

struct Measure {
    const char* name;
    double TravelPoint::*of;
    Qt::PenStyle style;
};
constexpr std::array<Measure, 5> kMeasures{
    {{QT_TRANSLATE_NOOP("Travel", "loudness"), &TravelPoint::loudness, Qt::SolidLine},
     {QT_TRANSLATE_NOOP("Travel", "brightness"), &TravelPoint::brightness, Qt::DashLine},
     {QT_TRANSLATE_NOOP("Travel", "body"), &TravelPoint::body, Qt::DotLine},
     {QT_TRANSLATE_NOOP("Travel", "harmonics"), &TravelPoint::harmonics, Qt::DashDotLine},
     {QT_TRANSLATE_NOOP("Travel", "crest"), &TravelPoint::crest, Qt::DashDotDotLine}}};
constexpr double kNothingLu = -30.0; // against now
constexpr double kSeenDb = 0.5;      // a measure that moves by less is not drawn

QString nameOf(const Measure& m) { return QCoreApplication::translate("Travel", m.name); }

/// What the worker has found so far.
struct TravelSoFar {
    std::mutex mutex;
    std::vector<TravelPoint> points;
};

} // namespace

QString travelWords(const std::vector<TravelPoint>& points)
{
    const Measure* most = nullptr;
    for (const Measure& m : kMeasures)
        if (!most || wholeOf(points, m.of) > wholeOf(points, most->of)) most = &m;
    if (wholeOf(points, most->of) < kSeenDb) return StagePanel::tr("it changes nothing by half a decibel here");
    const auto figure = [](double v) { return numberLabel(v, std::abs(v) < 100.0 && v != std::round(v) ? 1 : 0); };
    QStringList out;
    for (const Measure& m : kMeasures) {
        if (&m != most && m.of != &TravelPoint::brightness) continue;
        if (const auto idle = idleStretch(points, m.of))
            out << StagePanel::tr("no change of %1 from %2 to %3").arg(nameOf(m), figure(idle->from), figure(idle->to));
    }
    return out.isEmpty() ? StagePanel::tr("it changes the %1 all along").arg(nameOf(*most))
                         : out.join(QStringLiteral(", "));
}

StagePanel::StagePanel(SessionModel& session, QWidget* parent)
    : QWidget(parent), travelTask_(session), pictureTask_(session)
{
    auto* grid = new QGridLayout(this);
    grid->setContentsMargins(0, 4, 0, 0);
    grid->setHorizontalSpacing(6);
    grid->setVerticalSpacing(2);
    grid->setColumnStretch(1, 1);
    title_ = new QLabel(this);
    title_->setFont(Theme::instance().text(TextSize::Normal, true));
    auto* head = new QHBoxLayout;
    head->addWidget(title_, 1);
    hearPlaces_ = new QPushButton(tr("Hear %1 places").arg(kPlaces), this);
    hearPlaces_->setObjectName("hearPlaces");
    hearPlaces_->setToolTip(
        tr("Three places on the Travel of the control that differ most, to choose between below, equally loud"));
    hearPlaces_->setAccessibleName(hearPlaces_->toolTip());
    hearPlaces_->setCheckable(true);
    hearPlaces_->setProperty("small", true);
    connect(hearPlaces_, &QPushButton::toggled, this, [this](bool on) { setPlaces(on ? known_ : Places{}); });
    head->addWidget(hearPlaces_);
    head->addSpacing(14);
    grid->addLayout(head, 0, 0);
    controls_ = new ControlFigures(this);
    auto* held = new QWidget(this);
    auto* column = new QVBoxLayout(held);
    column->setContentsMargins(0, 0, 0, 0);
    column->addWidget(controls_);
    lanes_ = new QVBoxLayout;
    column->addLayout(lanes_);
    column->addStretch(1);
    auto* scroll = new QScrollArea(this); // a stage may have more controls than fit
    scroll->setWidget(held);
    scroll->setWidgetResizable(true);
    scroll->setFrameShape(QFrame::NoFrame);
    scroll->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    scroll->setFixedWidth(240);
    scroll->setFocusPolicy(Qt::NoFocus);
    grid->addWidget(scroll, 1, 0);
    grid->addWidget(buildViews(), 0, 1);
    pictures_ = new PageStack(this);
    travel_ = new TravelRuler(pictures_);
    travel_->setMinimumHeight(150);
    plot_ = new StagePlot(pictures_);
    pictures_->addWidget(travel_);
    pictures_->addWidget(plot_);
    grid->addWidget(pictures_, 1, 1);
    connect(controls_, &ControlFigures::changed, this, &StagePanel::controlChanged);
    connect(controls_, &ControlFigures::refused, this, &StagePanel::refused);
    connect(controls_, &ControlFigures::fileWanted, this, &StagePanel::fileWanted);
    connect(controls_, &ControlFigures::focusMoved, this, [this] {
        const ParameterSpec* spec = controls_->focused();
        const auto value = spec ? controls_->valueOf(spec->key) : ParameterValue(0.0);
        travel_->setParameter(spec, std::holds_alternative<double>(value) ? std::get<double>(value) : 0.0);
        measureTravel();
    });
    connect(travel_, &TravelRuler::moved, this, [this](double value) {
        if (const ParameterSpec* spec = controls_->focused())
            emit controlChanged(QString::fromStdString(spec->key), QString::fromStdString(valueText(value)));
    });
}

QWidget* StagePanel::buildViews()
{
    auto* row = new QWidget(this);
    auto* layout = new QHBoxLayout(row);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(0);
    views_ = new QButtonGroup(row);
    const std::array<std::pair<QString, QString>, 7> names{
        {{tr("Travel"), tr("How the sound changes over the travel of the control, on this loop, now")},
         {tr("Transfer"), tr("Volts out for volts in, and where the playing lies")},
         {tr("Response"), tr("Frequency response and harmonics at the playing's level")},
         {tr("Gain"), tr("What the stage does to the level over the loop")},
         {tr("Echoes"), tr("What follows a click, on the grid of beats")},
         {tr("Spectrum"), tr("Levels by thirds of an octave, before and behind the stage")},
         {tr("Notes"), tr("The notes that come in, and how many cents each is off")}}};
    for (int i = 0; i < int(names.size()); ++i) {
        auto* b = new QPushButton(names[std::size_t(i)].first, row);
        b->setObjectName("view" + names[std::size_t(i)].first);
        b->setAccessibleName(names[std::size_t(i)].second);
        b->setToolTip(names[std::size_t(i)].second);
        b->setCheckable(true);
        b->setProperty("view", true);
        views_->addButton(b, i);
        layout->addWidget(b);
    }
    layout->addStretch(1);
    views_->button(0)->setChecked(true);
    connect(views_, &QButtonGroup::idClicked, this, &StagePanel::showView);
    return row;
}

void StagePanel::showView(int view)
{
    pictures_->setCurrentIndex(view == 0 ? 0 : 1);
    if (view > 0) plot_->setView(StagePlot::View(view - 1));
    measure();
}

/// A stage that only shows has its own views; the others keep the one that was chosen last.
void StagePanel::chooseViews()
{
    constexpr int kSpectrum = 5, kNotes = 6;
    const bool shows = type_ && type_->character == Character::Shows;
    for (int id = 0; id <= kNotes; ++id) views_->button(id)->setVisible(shows ? id >= kSpectrum : id < kNotes);
    const bool isTuner = shows && type_->find("reference");
    if (isTuner) plot_->setReference(numberOf(completeValues(*type_, node_->values), "reference"));
    if (shows == isShowing_) return;
    isShowing_ = shows;
    if (shows) lastView_ = views_->checkedId();
    const int view = !shows ? lastView_ : isTuner ? kNotes : kSpectrum;
    views_->button(view)->setChecked(true);
    pictures_->setCurrentIndex(view == 0 ? 0 : 1);
    if (view > 0) plot_->setView(StagePlot::View(view - 1));
}

void StagePanel::setStage(const RigNode* node, const QStringList& files, Subject subject)
{
    const NodeType* const type = node ? typeOf(*node) : nullptr;
    if (type != type_ || subject.stage != subject_.stage) hearPlaces_->setChecked(false); // they are another stage's
    node_ = node ? std::optional(*node) : std::nullopt;
    type_ = type;
    subject_ = std::move(subject);
    chooseViews();
    hearPlaces_->setVisible(!isShowing_);
    title_->setText(type_   ? QString::fromStdString(type_->title)
                    : node_ ? QString::fromStdString(node_->type)
                            : tr("no stage yet: add one"));
    controls_->setNode(type_, node_ ? node_->values : ParameterValues{}, files);
    showLanes();
    const ParameterSpec* spec = controls_->focused();
    const auto value = spec ? controls_->valueOf(spec->key) : ParameterValue(0.0);
    travel_->setParameter(spec, std::holds_alternative<double>(value) ? std::get<double>(value) : 0.0);
    plot_->setPicture(std::nullopt, subject_.beatS);
    measure();
}

void StagePanel::showLanes()
{
    while (QLayoutItem* item = lanes_->takeAt(0)) {
        dismiss(item->widget());
        delete item;
    }
    if (!node_ || !node_->isSplit()) return;
    const auto add = [&](const QString& text, const QString& name, const QString& about, auto clicked) {
        auto* b = new QPushButton(text, this);
        b->setObjectName(name);
        b->setAccessibleName(about);
        b->setToolTip(about);
        b->setProperty("plain", true);
        connect(b, &QPushButton::clicked, this, clicked);
        lanes_->addWidget(b);
    };
    for (int lane = 0; lane < int(node_->lanes.size()); ++lane) {
        QStringList names;
        for (const RigNode& n : node_->lanes[std::size_t(lane)]) names << QString::fromStdString(n.type);
        const QString text = tr("Lane %1: %2").arg(lane + 1).arg(names.isEmpty() ? tr("clean") : names.join(", "));
        add(QFontMetrics(font()).elidedText(text, Qt::ElideRight, 220), QStringLiteral("lane.%1").arg(lane + 1),
            tr("Open lane %1").arg(lane + 1), [this, lane] { emit laneOpened(lane); });
    }
    add(tr("Add a clean lane"), QStringLiteral("addLane"), tr("One more lane; the sum stays as loud"),
        [this] { emit laneWanted(); });
}

void StagePanel::measure()
{
    // Only what is seen is measured.
    if (views_->checkedId() == 0) {
        pictureTask_.cancel();
        measureTravel();
    } else {
        travelTask_.cancel();
        measurePicture();
    }
}

void StagePanel::setPlaces(Places places)
{
    if (places.key == places_.key && places.values == places_.values) return;
    places_ = std::move(places);
    emit placesChanged();
}

void StagePanel::measureTravel()
{
    travel_->setCurves({}, {}, {});
    known_ = {};
    hearPlaces_->setEnabled(false);
    const ParameterSpec* spec = controls_->focused();
    if (views_->checkedId() != 0 || !subject_.recipe || !spec || spec->kind != ParameterKind::Number || !node_ ||
        node_->bypass)
        return travelTask_.cancel();
    LayerRecipe recipe = *subject_.recipe;
    recipe.endS = std::min(recipe.endS, recipe.startS + kTravelS);
    auto soFar = std::make_shared<TravelSoFar>();
    disconnect(&travelTask_, &TaskRunner::progressed, this, nullptr);
    connect(&travelTask_, &TaskRunner::progressed, this, [this, soFar] {
        std::vector<TravelPoint> points;
        {
            const std::lock_guard lock(soFar->mutex);
            points = soFar->points;
        }
        std::ranges::sort(points, {}, &TravelPoint::value);
        if (points.size() > 2) showTravel(std::move(points), false);
    });
    travelTask_.run<std::vector<TravelPoint>>(
        tr("Hearing the control over its travel"),
        [recipe, soFar, stage = subject_.stage, key = spec->key](const Progress& p) {
            auto points = controlTravel(recipe, stage, key, kTravelPoints, p, [soFar](const TravelPoint& point) {
                const std::lock_guard lock(soFar->mutex);
                soFar->points.push_back(point);
            });
            return points ? std::move(*points) : std::vector<TravelPoint>();
        },
        [this](std::vector<TravelPoint> points) {
            disconnect(&travelTask_, &TaskRunner::progressed, this, nullptr);
            if (!points.empty()) showTravel(std::move(points), true);
        });
}

void StagePanel::showTravel(std::vector<TravelPoint> points, bool done)
{
    std::vector<TravelRuler::Curve> curves;
    for (const Measure& m : kMeasures) {
        if (wholeOf(points, m.of) < kSeenDb) continue;
        auto& curve = curves.emplace_back(TravelRuler::Curve{nameOf(m), m.style, {}});
        // Where next to nothing is heard (a gate that stays shut) there is a level, and no colour.
        for (const TravelPoint& t : points)
            if (m.of == &TravelPoint::loudness || t.loudness > kNothingLu)
                curve.points.push_back({t.value, std::clamp(t.*m.of, -60.0, 60.0)});
    }
    if (const ParameterSpec* spec = controls_->focused(); spec && done) {
        known_ = {spec->key, placesToHear(points, kPlaces)};
        hearPlaces_->setEnabled(true);
        if (hearPlaces_->isChecked() && places_.key != known_.key) setPlaces(known_);
    }
    travel_->setCurves(std::move(curves), tr("dB against now, on this loop"),
                       done ? travelWords(points) : tr("%1 of %2 places heard").arg(points.size()).arg(kTravelPoints));
}

void StagePanel::measurePicture()
{
    if (!subject_.recipe || !node_ || node_->bypass) {
        plot_->setEmptyText(node_ && node_->bypass ? tr("the stage is bypassed") : tr("no stage to look at"));
        return pictureTask_.cancel();
    }
    plot_->setEmptyText(tr("Looking at the stage \u2026"));
    LayerRecipe recipe = *subject_.recipe;
    recipe.endS = std::min(recipe.endS, recipe.startS + 2.0 * kTravelS);
    const double echoS = subject_.beatS * std::min(2 * subject_.beats, kLongestEchoBeats);
    pictureTask_.run<std::shared_ptr<Result<StagePicture>>>(
        tr("Looking at the stage"),
        [recipe, echoS, stage = subject_.stage](const Progress& p) {
            return std::make_shared<Result<StagePicture>>(stagePicture(recipe, stage, echoS, p));
        },
        [this](std::shared_ptr<Result<StagePicture>> picture) {
            if (*picture)
                plot_->setPicture(std::move(**picture), subject_.beatS);
            else
                plot_->setEmptyText(QString::fromStdString(picture->error().line()));
        });
}

} // namespace gristle::app
