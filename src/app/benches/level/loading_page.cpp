#include "app/benches/level/loading_page.h"

#include "app/models/slots.h"
#include "app/widgets/control_figures.h"
#include "core/mix/render/session_mix.h"
#include "core/rig/nodes/loading.h"
#include "core/units/number_text.h"

#include <QLabel>
#include <QPushButton>
#include <QVBoxLayout>

namespace gristle::app {

using namespace core;

namespace {

constexpr std::size_t kMostSetups = 4;
constexpr double kTellHz = 4000.0;

const NodeType& loadingType() { return *findNodeType("loading"); }

/// The values of a set-up as the recall line has them, only those that differ from the initial ones.
std::string lineOf(const ParameterValues& values)
{
    const ParameterValues initial = completeValues(loadingType(), {});
    RigNode node;
    node.type = "loading";
    for (const auto& [key, value] : values)
        if (valueText(value) != valueText(initial.at(key))) node.values[key] = value;
    const std::string line = recallLine({node});
    return line.size() > 8 ? line.substr(8) : std::string();
}

ParameterValues valuesOf(const std::string& line)
{
    const auto chain = parseRecallLine("loading " + line);
    const bool good = chain && chain->size() == 1 && chain->front().type == "loading";
    return completeValues(loadingType(), good ? chain->front().values : ParameterValues{});
}

QString nameOf(std::size_t index) { return LoadingPage::tr("set-up %1").arg(index + 1); }

double lossAt(const GuitarCircuit& g) { return insertionLossDb(g, kTellHz); }

/// What the chosen set-up costs, and what a buffer would change.
QString sentenceOf(const GuitarCircuit& g, const ParameterValues& v)
{
    const QString input = QString::fromStdString(numberText(numberOf(v, "input")));
    const double loss = lossAt(g);
    ParameterValues other = v;
    other["buffer"] = std::string(g.buffer ? "off" : "input");
    const double otherLoss = lossAt(guitarCircuitOf(other));
    if (g.buffer)
        return LoadingPage::tr("With the buffer the input of %1 k\u03a9 costs %2 dB at 4 kHz; without it %3 dB.")
            .arg(input, numberLabel(loss, 1), numberLabel(otherLoss, 1));
    if (loss < 0.5)
        return LoadingPage::tr("The input of %1 k\u03a9 costs %2 dB at 4 kHz: nothing to worry about.")
            .arg(input, numberLabel(loss, 1));
    const double rest = std::max(0.0, otherLoss);
    if (rest > loss - 0.3)
        return LoadingPage::tr("The input of %1 k\u03a9 costs %2 dB at 4 kHz; a buffer before it would change little.")
            .arg(input, numberLabel(loss, 1));
    return LoadingPage::tr("The input of %1 k\u03a9 costs %2 dB at 4 kHz; a buffer before it brings back all but %3.")
        .arg(input, numberLabel(loss, 1), numberLabel(rest, 1));
}

} // namespace

LoadingPicture::LoadingPicture(QWidget* parent) : PlotWidget(parent)
{
    setObjectName("loadingPicture");
    setAccessibleName(tr("Frequency response from the string to the input"));
    setMinimumHeight(150);
}

void LoadingPicture::setCurves(std::vector<Curve> curves, std::size_t chosen)
{
    curves_ = std::move(curves);
    chosen_ = chosen;
    QStringList told;
    for (const Curve& c : curves_) {
        const auto r = resonanceOf(c.circuit);
        told << (r.hz ? tr("%1: resonance %2").arg(c.name, hzLabel(*r.hz)) : tr("%1: no resonance").arg(c.name));
    }
    setAccessibleDescription(told.join(", "));
    changeStill();
}

void LoadingPicture::drawStill(QPainter& p)
{
    const PlotArea area(QRectF(44, 8, width() - 64, height() - 34), Axis{50.0, 20000.0, 0, 1, true}, Axis{-24.0, 18.0});
    area.drawLevels(p, {18, 12, 6, 0, -6, -12, -18, -24}, [](double v) { return numberLabel(v); });
    area.drawTicks(p, {50, 100, 200, 500, 1000, 2000, 5000, 10000, 20000}, hzLabel);
    p.setClipRect(area.rect);
    static constexpr Qt::PenStyle kStyles[] = {Qt::SolidLine, Qt::DashLine, Qt::DotLine, Qt::DashDotLine};
    const auto draw = [&](std::size_t i) {
        QPolygonF line;
        for (double x = area.rect.left(); x <= area.rect.right(); x += 1.5) {
            const double db = amplitudeToDb(std::abs(responseAt(curves_[i].circuit, area.x.valueAt(x))));
            line << QPointF(x, area.y.at(std::clamp(db, -60.0, 40.0)));
        }
        p.setPen(QPen(ink(i == chosen_ ? Token::Act : Token::Ink), i == chosen_ ? 2.4 : 1.6, kStyles[i % 4]));
        p.drawPolyline(line);
    };
    for (std::size_t i = 0; i < curves_.size(); ++i)
        if (i != chosen_) draw(i);
    if (chosen_ < curves_.size()) draw(chosen_);
    p.setClipping(false);
    p.setFont(Theme::instance().text(TextSize::Small, true));
    for (std::size_t i = 0; i < curves_.size(); ++i) { // a legend where the curves start flat
        const double y = area.rect.bottom() - 14.0 - 18.0 * double(curves_.size() - 1 - i), x = area.rect.left() + 10;
        p.setPen(QPen(ink(i == chosen_ ? Token::Act : Token::Ink), i == chosen_ ? 2.4 : 1.6, kStyles[i % 4]));
        p.drawLine(QPointF(x, y), QPointF(x + 30, y));
        drawLabel(p, {x + 38, y}, curves_[i].name, Qt::AlignLeft | Qt::AlignVCenter, ink(Token::Ink), area.rect);
    }
}

LoadingPage::LoadingPage(const BenchContext& context, QWidget* parent)
    : BenchPage(context, tr("Loading"), tr("What do cable and input take from the pickup?"), parent)
{
    build();
    connect(&session(), &SessionModel::documentChanged, this, &LoadingPage::refresh);
    connect(&session(), &SessionModel::pathChanged, this, &LoadingPage::refresh);
    connect(&Theme::instance(), &Theme::changed, this, &LoadingPage::refresh);
}

void LoadingPage::build()
{
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(6);
    sentence_ = new QLabel(this);
    sentence_->setObjectName("loadingSentence");
    sentence_->setFont(Theme::instance().text(TextSize::Reading, true));
    sentence_->setWordWrap(true);
    column->addWidget(sentence_);
    picture_ = new LoadingPicture(this);
    column->addWidget(picture_, 1);
    choices_ = new QHBoxLayout;
    choices_->setSpacing(4);
    const auto button = [&](const QString& text, const char* name, const QString& about) {
        auto* b = new QPushButton(text, this);
        b->setObjectName(name);
        b->setAccessibleName(about);
        b->setToolTip(about);
        choices_->addWidget(b);
        return b;
    };
    for (std::size_t i = 0; i < kMostSetups; ++i) {
        auto* b = button(nameOf(i), ("setup." + std::to_string(i + 1)).c_str(), tr("Choose set-up %1").arg(i + 1));
        b->setProperty("slot", true);
        b->setCheckable(true);
        connect(b, &QPushButton::clicked, this, [this, i] { choose(i); });
        buttons_.push_back(b);
    }
    another_ = button(tr("Compare another"), "addSetup", tr("Add a set-up like the chosen one"));
    connect(another_, &QPushButton::clicked, this, [this] {
        const std::string line = lineOf(setups()[chosen_]);
        const std::size_t at = setups().size();
        change(tr("Loading set-up added"), [&](std::vector<std::string>& l) { l.push_back(line); });
        choose(at);
    });
    remove_ = button(tr("Remove"), "removeSetup", tr("Take the chosen set-up away"));
    connect(remove_, &QPushButton::clicked, this, [this] {
        const std::size_t at = chosen_;
        if (chosen_ > 0) --chosen_;
        change(tr("Loading set-up removed"), [&](std::vector<std::string>& l) { l.erase(l.begin() + long(at)); });
    });
    choices_->addStretch(1);
    intoRig_ = button(tr("Put it first in the rig"), "loadingIntoRig",
                      tr("The rig of this layer then hears the DI as through this set-up"));
    connect(intoRig_, &QPushButton::clicked, this, &LoadingPage::putIntoRig);
    column->addLayout(choices_);
    figures_ = new QLabel(this);
    figures_->setObjectName("loadingFigures");
    figures_->setTextFormat(Qt::RichText);
    column->addWidget(figures_);
    controls_ = new ControlFigures(this, 8);
    connect(controls_, &ControlFigures::changed, this, &LoadingPage::setControl);
    connect(controls_, &ControlFigures::refused, this, &BenchPage::failed);
    column->addWidget(controls_);
    auto* honest =
        new QLabel(tr("A circuit with values that are typical for the kind of pickup: an estimate for any one guitar. "
                      "What is greyed is typical: type your pickup's own value over it where you know it, and empty "
                      "the field to go back."),
                   this);
    honest->setProperty("tone", "2");
    honest->setFont(Theme::instance().text(TextSize::Small));
    honest->setWordWrap(true);
    column->addWidget(honest);
}

std::vector<ParameterValues> LoadingPage::setups() const
{
    std::vector<ParameterValues> out;
    for (const std::string& line : session().document().loadings) out.push_back(valuesOf(line));
    if (out.empty()) out.push_back(valuesOf(""));
    if (out.size() > kMostSetups) out.resize(kMostSetups);
    return out;
}

void LoadingPage::choose(std::size_t index)
{
    chosen_ = index;
    refresh();
    emit auditionChanged();
}

void LoadingPage::change(const QString& text, const std::function<void(std::vector<std::string>&)>& edit)
{
    std::vector<std::string> lines;
    for (const auto& values : setups()) lines.push_back(lineOf(values));
    edit(lines);
    session().edit(text, "loading", [&](SessionDocument& d) { d.loadings = lines; });
    refresh();
    emit auditionChanged();
}

void LoadingPage::setControl(const QString& key, const QString& value)
{
    const auto* spec = loadingType().find(key.toStdString());
    const auto parsed = parseValue(loadingType(), *spec, value.toStdString());
    if (!parsed) return;
    ParameterValues values = setups()[chosen_];
    values[spec->key] = *parsed;
    change(tr("Loading: %1 %2 %3")
               .arg(QString::fromStdString(spec->label), value, QString::fromStdString(spec->unit))
               .trimmed(),
           [&](std::vector<std::string>& lines) { lines[chosen_] = lineOf(values); });
}

void LoadingPage::putIntoRig()
{
    if (!session().layer()) return;
    RigDocument rig = session().rigs().inHand();
    RigNode node;
    node.type = "loading";
    node.values = setups()[chosen_];
    if (!rig.chain.empty() && rig.chain.front().type == "loading")
        rig.chain.front() = node;
    else
        rig.chain.insert(rig.chain.begin(), node);
    session().rigs().set(std::move(rig), tr("Loading put first: %1").arg(nameOf(chosen_)));
}

void LoadingPage::showEvent(QShowEvent* event)
{
    BenchPage::showEvent(event);
    refresh();
}

void LoadingPage::refresh()
{
    if (!session().isOpen() || !isVisible()) return; // shown anew when it is looked at
    const auto all = setups();
    chosen_ = std::min(chosen_, all.size() - 1);
    std::vector<LoadingPicture::Curve> curves;
    QString table = QStringLiteral("<table cellspacing='0' cellpadding='0'>");
    const QString small = ink(Token::Ink2).name(), mono = Theme::instance().mono().family();
    for (std::size_t i = 0; i < all.size(); ++i) {
        const GuitarCircuit g = guitarCircuitOf(all[i]);
        curves.push_back({nameOf(i), g});
        const auto r = resonanceOf(g);
        const auto cell = [&](const QString& v) {
            return QStringLiteral("<td style='padding-right:10px'>%1</td>").arg(v);
        };
        const auto figure = [&](const QString& v, const QString& unit) {
            return cell(QStringLiteral("<span style='font-family:\"%1\"'>%2</span> <span style='color:%3'>%4</span>")
                            .arg(mono, v, small, unit));
        };
        table +=
            QStringLiteral("<tr>") +
            cell(i == chosen_ ? QStringLiteral("<span style='font-weight:600'>%1</span>").arg(nameOf(i)) : nameOf(i)) +
            figure(r.hz ? numberLabel(*r.hz / 1000.0, 2) : QString(QChar(0x2013)), tr("kHz peak")) +
            cell(QStringLiteral("<span style='color:%1'>Q</span> <span style='font-family:\"%2\"'>%3</span>")
                     .arg(small, mono, r.q ? numberLabel(*r.q, 1) : QString(QChar(0x2013))));
        for (const double hz : {1000.0, 3000.0, 5000.0})
            table += figure(numberLabel(insertionLossDb(g, hz), 1), tr("dB less at %1").arg(hzLabel(hz)));
        table += QStringLiteral("</tr>");
    }
    figures_->setText(table + QStringLiteral("</table>"));
    picture_->setCurves(std::move(curves), chosen_);
    sentence_->setText(sentenceOf(guitarCircuitOf(all[chosen_]), all[chosen_]));
    for (std::size_t i = 0; i < buttons_.size(); ++i) {
        buttons_[i]->setVisible(i < all.size());
        buttons_[i]->setChecked(i == chosen_);
    }
    another_->setEnabled(all.size() < kMostSetups);
    remove_->setEnabled(all.size() > 1);
    intoRig_->setEnabled(session().layer() != nullptr);
    controls_->setNode(&loadingType(), all[chosen_], {});
    emit stateChanged();
}

BenchFindings LoadingPage::findings() const
{
    return {{},
            tr("Compare set-ups here: a long cable, a low input, a volume turned down. Hear them below at the same "
               "loudness.")};
}

AuditionRequest LoadingPage::audition() const
{
    AuditionRequest out;
    const Take* take = session().isOpen() ? session().take() : nullptr;
    if (!take) return out;
    out.kind = "loading";
    out.subject = tr("%1, dry DI").arg(QString::fromStdString(session().layer()->name));
    const auto add = [&](const QString& title, const RigChain& chain) {
        RigDocument rig;
        rig.chain = chain;
        const LayerRecipe recipe = layerRecipe(session().folder(), *take, rig);
        out.slots_.push_back(layerSlot(title, recipe));
    };
    add(tr("As it was taken"), {});
    const auto all = setups();
    for (std::size_t i = 0; i < all.size(); ++i) {
        RigNode node;
        node.type = "loading";
        node.values = all[i];
        add(nameOf(i), {node});
    }
    out.active = chosen_ + 1;
    return out;
}

} // namespace gristle::app
