#include "app/widgets/control_figures.h"

#include "app/theme/theme.h"
#include "app/widgets/dismiss.h"
#include "app/widgets/plot.h"
#include "core/rig/nodes/loading.h"
#include "core/rig/rig_document.h"
#include "core/units/number_text.h"

#include <QComboBox>
#include <QGridLayout>
#include <QKeyEvent>
#include <QLabel>
#include <QLineEdit>
#include <QMouseEvent>
#include <QWheelEvent>

namespace gristle::app {

using namespace core;

double stepped(const ParameterSpec& spec, double value, double steps)
{
    const double next = spec.scale == Scale::Logarithmic ? value * std::pow(2.0, steps / 12.0)
                                                         : value + steps * (spec.max - spec.min) / 100.0;
    const double grain = spec.scale == Scale::Logarithmic ? 1.0 : (spec.max - spec.min) / 1000.0;
    return std::clamp(std::round(next / grain) * grain, spec.min, spec.max);
}

class FigureEdit : public QLineEdit {
public:
    FigureEdit(const ParameterSpec& spec, QWidget* parent) : QLineEdit(parent), spec_(spec)
    {
        setAlignment(Qt::AlignRight);
        setFont(Theme::instance().mono(TextSize::Normal, true));
    }

protected:
    void keyPressEvent(QKeyEvent* event) override
    {
        const double fine = event->modifiers() & Qt::ShiftModifier ? 0.1 : 1.0;
        if (event->key() == Qt::Key_Up) return step(fine);
        if (event->key() == Qt::Key_Down) return step(-fine);
        QLineEdit::keyPressEvent(event);
    }
    void wheelEvent(QWheelEvent* event) override
    {
        if (!hasFocus()) return event->ignore(); // a scrolled page must not turn a control
        step(event->angleDelta().y() > 0 ? 1.0 : -1.0);
        event->accept();
    }

private:
    void step(double steps)
    {
        const auto value = parseNumber((text().isEmpty() ? placeholderText() : text()).toStdString());
        if (spec_.kind != ParameterKind::Number || !value) return;
        setText(QString::fromStdString(numberText(stepped(spec_, *value, steps))));
        emit editingFinished();
    }
    ParameterSpec spec_;
};

ControlFigures::ControlFigures(QWidget* parent, int rows) : QWidget(parent), rows_(rows)
{
    grid_ = new QGridLayout(this);
    grid_->setContentsMargins(0, 0, 0, 0);
    grid_->setHorizontalSpacing(rows > 0 ? 6 : 10);
    grid_->setVerticalSpacing(2);
    grid_->setAlignment(Qt::AlignTop);
}

ControlFigures::~ControlFigures() { letGo(); }

void ControlFigures::letGo()
{
    for (const auto& [key, editor] : editors_) editor->disconnect(this);
    editors_.clear();
}

void ControlFigures::setNode(const NodeType* type, const ParameterValues& values, const QStringList& files)
{
    const bool same = type == type_ && files == files_;
    type_ = type;
    values_ = type ? completeValues(*type, values) : ParameterValues{};
    files_ = files;
    if (same) { // only figures move: editors, focus and cursor stay
        for (const auto& [key, editor] : editors_) {
            const QString text = shownText(key);
            if (auto* line = qobject_cast<QLineEdit*>(editor)) {
                if (line->text() != text) line->setText(text);
                line->setPlaceholderText(typicalText(key));
            }
            if (auto* box = qobject_cast<QComboBox*>(editor); box && box->currentText() != text)
                box->setCurrentIndex(box->findText(text));
        }
        showWhatWorks();
        return;
    }
    letGo();
    while (QLayoutItem* item = grid_->takeAt(0)) {
        dismiss(item->widget());
        delete item;
    }
    focused_.clear();
    if (type) { // the first with a number, whose travel can be seen
        const auto number = std::ranges::find(type->parameters, ParameterKind::Number, &ParameterSpec::kind);
        if (number != type->parameters.end())
            focused_ = number->key;
        else if (!type->parameters.empty())
            focused_ = type->parameters.front().key;
    }
    if (type)
        for (std::size_t i = 0; i < type->parameters.size(); ++i) addRow(type->parameters[i], int(i));
    showWhatWorks();
    emit focusMoved();
}

void ControlFigures::showWhatWorks()
{
    if (!type_) return;
    for (const ParameterSpec& spec : type_->parameters) {
        const bool works = spec.worksWith(values_);
        QString about = QString::fromStdString(spec.about);
        if (!works)
            about = tr("does nothing while %1 is %2")
                        .arg(QString::fromStdString(spec.onlyIf.of),
                             QString::fromStdString(textOf(values_, spec.onlyIf.of)));
        editors_.at(spec.key)->setEnabled(works);
        editors_.at(spec.key)->setToolTip(about);
    }
}

void ControlFigures::addRow(const ParameterSpec& spec, int row)
{
    const int column = rows_ > 0 ? 3 * (row / rows_) : 0;
    if (rows_ > 0) row %= rows_;
    auto* label = new QLabel(QString::fromStdString(spec.label), this);
    label->setToolTip(QString::fromStdString(spec.about));
    grid_->addWidget(label, row, column);
    const QString text = shownText(spec.key);
    QWidget* editor = nullptr;
    if (spec.kind == ParameterKind::Choice || spec.kind == ParameterKind::File) {
        auto* box = new QComboBox(this);
        if (spec.kind == ParameterKind::File) {
            box->addItems(files_);
            if (!text.isEmpty() && box->findText(text) < 0) box->addItem(text);
            box->addItem(tr("bring another in \u2026"));
            box->setPlaceholderText(tr("choose a file"));
        } else {
            for (const auto& c : spec.choices) box->addItem(QString::fromStdString(c));
        }
        box->setCurrentIndex(box->findText(text)); // none chosen: none shown
        box->setMinimumWidth(rows_ > 0 ? 90 : 120);
        box->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
        connect(box, &QComboBox::activated, this, [this, spec, box](int index) {
            focused_ = spec.key;
            if (spec.kind == ParameterKind::File && index == box->count() - 1) {
                box->setCurrentIndex(box->findText(QString::fromStdString(valueText(values_.at(spec.key)))));
                emit fileWanted(QString::fromStdString(spec.key));
                return;
            }
            offer(spec, box->currentText());
        });
        editor = box;
    } else {
        auto* line = new FigureEdit(spec, this);
        line->setText(text);
        line->setPlaceholderText(typicalText(spec.key));
        line->setFixedWidth(rows_ > 0 ? 64 : 86);
        connect(line, &QLineEdit::editingFinished, this, [this, spec, line] { offer(spec, line->text()); });
        connect(line, &QLineEdit::selectionChanged, this, [this, spec] {
            if (focused_ == spec.key) return;
            focused_ = spec.key;
            emit focusMoved();
        });
        connect(line, &QLineEdit::cursorPositionChanged, this, [this, spec, line] {
            if (focused_ == spec.key || !line->hasFocus()) return;
            focused_ = spec.key;
            emit focusMoved();
        });
        editor = line;
    }
    editor->setObjectName("control." + QString::fromStdString(spec.key));
    editor->setAccessibleName(QString::fromStdString(spec.label));
    editor->setToolTip(QString::fromStdString(spec.about));
    editors_[spec.key] = editor;
    grid_->addWidget(editor, row, column + 1, Qt::AlignRight);
    auto* unit = new QLabel(QString::fromStdString(spec.kind == ParameterKind::Time ? "" : spec.unit), this);
    unit->setFont(Theme::instance().text(TextSize::Small));
    unit->setProperty("tone", "2");
    unit->setMinimumWidth(rows_ > 0 ? 40 : 26);
    grid_->addWidget(unit, row, column + 2);
}

/// What 0 stands for, where it stands for something.
QString ControlFigures::typicalText(const std::string& key) const
{
    const auto typical = type_ ? typicalValue(*type_, values_, key) : std::nullopt;
    return typical ? QString::fromStdString(numberText(*typical)) : QString();
}

/// As it stands in the field: nothing over the typical value, which is greyed.
QString ControlFigures::shownText(const std::string& key) const
{
    const auto* number = std::get_if<double>(&values_.at(key));
    if (number && *number == 0.0 && !typicalText(key).isEmpty()) return {};
    return QString::fromStdString(valueText(values_.at(key)));
}

void ControlFigures::offer(const ParameterSpec& spec, const QString& given)
{
    const QString text = given.trimmed().isEmpty() && !typicalText(spec.key).isEmpty() ? QStringLiteral("0") : given;
    if (text.toStdString() == valueText(values_.at(spec.key))) return;
    const auto value = parseValue(*type_, spec, text.trimmed().toStdString());
    if (!value) {
        if (auto* line = qobject_cast<QLineEdit*>(editors_[spec.key])) // what was there stays
            line->setText(shownText(spec.key));
        emit refused(QString::fromStdString(value.error().message), QString::fromStdString(value.error().remedy));
        return;
    }
    values_[spec.key] = *value;
    showWhatWorks();
    emit changed(QString::fromStdString(spec.key), QString::fromStdString(valueText(*value)));
}

const ParameterSpec* ControlFigures::focused() const { return type_ ? type_->find(focused_) : nullptr; }
ParameterValue ControlFigures::valueOf(const std::string& key) const
{
    const auto at = values_.find(key);
    return at == values_.end() ? ParameterValue(0.0) : at->second;
}

TravelRuler::TravelRuler(QWidget* parent) : QWidget(parent)
{
    setFocusPolicy(Qt::StrongFocus);
    setMinimumHeight(70);
    setObjectName("travel");
    setAccessibleName(tr("Travel of the control"));
    connect(&Theme::instance(), &Theme::changed, this, qOverload<>(&QWidget::update));
}

void TravelRuler::setParameter(const ParameterSpec* spec, double value)
{
    has_ = spec != nullptr && spec->kind == ParameterKind::Number;
    if (has_) spec_ = *spec;
    value_ = value;
    setAccessibleDescription(has_ ? QStringLiteral("%1 %2").arg(QString::fromStdString(spec_.label)).arg(value)
                                  : QString());
    update();
}

void TravelRuler::setCurves(std::vector<Curve> curves, const QString& caption, const QString& words)
{
    curves_ = std::move(curves);
    caption_ = caption;
    words_ = words;
    update();
}

QRectF TravelRuler::plot() const { return QRectF(38, 42, width() - 38 - 84, height() - 42 - 42); }

double TravelRuler::pixelAt(double value) const
{
    const Axis axis{spec_.min, spec_.max, plot().left(), plot().right(), spec_.scale == Scale::Logarithmic};
    return axis.held(value);
}

double TravelRuler::valueAt(double pixel) const
{
    const Axis axis{spec_.min, spec_.max, plot().left(), plot().right(), spec_.scale == Scale::Logarithmic};
    return std::clamp(axis.valueAt(pixel), spec_.min, spec_.max);
}

void TravelRuler::paintEvent(QPaintEvent*)
{
    QPainter p(this);
    p.setRenderHint(QPainter::Antialiasing);
    if (!has_) {
        p.setPen(ink(Token::Ink3));
        p.setFont(Theme::instance().text(TextSize::Small));
        p.drawText(rect(), Qt::AlignCenter, tr("choose a control with a number to see its travel"));
        return;
    }
    const QRectF r = plot();
    p.setFont(Theme::instance().text(TextSize::Small, true));
    p.setPen(ink(Token::Ink));
    p.drawText(QRectF(0, 0, width(), 18), Qt::AlignLeft | Qt::AlignVCenter,
               QString::fromStdString(spec_.label) + tr(" over its travel") +
                   (caption_.isEmpty() ? QString() : ", " + caption_));
    p.setFont(Theme::instance().text(TextSize::Small));
    p.setPen(ink(Token::Ink2));
    p.drawText(QRectF(0, 17, width(), 18), Qt::AlignLeft | Qt::AlignVCenter,
               p.fontMetrics().elidedText(words_, Qt::ElideRight, width()));
    double low = 0.0, high = 0.0;
    for (const Curve& c : curves_)
        for (const QPointF& q : c.points) low = std::min(low, q.y()), high = std::max(high, q.y());
    // Silence at one end would press all else flat.
    low = std::floor(std::clamp(low, -36.0, -3.0) / 6.0) * 6.0;
    high = std::ceil(std::clamp(high, 3.0, 36.0) / 6.0) * 6.0;
    if (!curves_.empty()) {
        PlotArea area(r, Axis{spec_.min, spec_.max, 0, 1, spec_.scale == Scale::Logarithmic}, Axis{low, high});
        const double step = high - low > 36 ? 12.0 : 6.0;
        std::vector<double> ticks;
        for (double v = low; v <= high + 0.1; v += step) ticks.push_back(v);
        area.drawLevels(p, ticks, [](double v) { return numberLabel(v); });
        std::vector<std::pair<double, QString>> names; // at the curves' ends
        for (const Curve& c : curves_) {
            QPolygonF line;
            for (const QPointF& q : c.points) line << QPointF(area.x.at(q.x()), area.y.at(q.y()));
            p.setPen(QPen(ink(Token::Ink), 1.6, c.style));
            p.setClipRect(r.adjusted(0, -1, 0, 1)); // what is beyond leaves the picture, and does not go along its edge
            p.drawPolyline(line);
            p.setClipping(false);
            if (!line.isEmpty()) names.emplace_back(std::clamp(line.back().y(), r.top(), r.bottom()), c.name);
        }
        std::ranges::sort(names);
        double taken = -1e9;
        p.setFont(Theme::instance().text(TextSize::Small));
        p.setPen(ink(Token::Ink2));
        for (const auto& [at, name] : names) {
            taken = std::max(at, taken + 15.0);
            p.drawText(QRectF(r.right() + 6, taken - 9, 78, 18), Qt::AlignLeft | Qt::AlignVCenter, name);
        }
    }
    const double base = r.bottom() + 12;
    p.setPen(QPen(hasFocus() ? ink(Token::Act) : ink(Token::Ink), hasFocus() ? 2.0 : 1.2));
    p.drawLine(QPointF(r.left(), base), QPointF(r.right(), base));
    p.setPen(QPen(ink(Token::Ink3), 1));
    p.setFont(Theme::instance().mono(TextSize::Small));
    for (int i = 0; i <= 10; ++i) {
        const double x = r.left() + r.width() * i / 10.0;
        p.setPen(QPen(ink(Token::Ink3), 1));
        p.drawLine(QPointF(x, base), QPointF(x, base + (i % 5 == 0 ? 9 : 5)));
        if (i % 5 != 0) continue;
        p.setPen(ink(Token::Ink2));
        const double v = valueAt(x);
        p.drawText(QRectF(x - 40, base + 11, 80, 18), Qt::AlignCenter,
                   numberLabel(v, std::abs(v) < 10 && v != std::round(v) ? 1 : 0));
    }
    const double x = pixelAt(value_);
    p.setPen(QPen(ink(Token::Act), 1.4));
    p.drawLine(QPointF(x, r.top()), QPointF(x, base));
    p.setBrush(ink(Token::Act));
    p.drawPolygon(QPolygonF({{x - 6, base - 9}, {x + 6, base - 9}, {x, base}}));
}

void TravelRuler::moveTo(double value)
{
    const double grain = spec_.scale == Scale::Logarithmic ? 1.0 : (spec_.max - spec_.min) / 1000.0;
    value = std::clamp(std::round(value / grain) * grain, spec_.min, spec_.max);
    if (value == value_) return;
    value_ = value;
    update();
    emit moved(value);
}

void TravelRuler::mousePressEvent(QMouseEvent* event)
{
    if (has_) moveTo(valueAt(event->position().x()));
}
void TravelRuler::mouseMoveEvent(QMouseEvent* event)
{
    if (has_ && event->buttons() & Qt::LeftButton) moveTo(valueAt(event->position().x()));
}
void TravelRuler::keyPressEvent(QKeyEvent* event)
{
    const double fine = event->modifiers() & Qt::ShiftModifier ? 0.1 : 1.0;
    if (has_ && (event->key() == Qt::Key_Right || event->key() == Qt::Key_Up))
        return moveTo(stepped(spec_, value_, fine));
    if (has_ && (event->key() == Qt::Key_Left || event->key() == Qt::Key_Down))
        return moveTo(stepped(spec_, value_, -fine));
    QWidget::keyPressEvent(event);
}

} // namespace gristle::app
