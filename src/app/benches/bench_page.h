#pragma once

#include "app/benches/bench.h"
#include "app/theme/theme.h"

#include <QLabel>
#include <QPushButton>
#include <QVBoxLayout>

namespace gristle::app {

/// A control with the name that tests know, and what it is for, said to those who hover and to those who cannot see.
template<typename T> T* named(T* widget, const char* name, const QString& about)
{
    widget->setObjectName(name);
    widget->setAccessibleName(about);
    widget->setToolTip(about);
    return widget;
}

/// One page of a bench that has several: a question and what answers it. A new page is a class derived from this and
/// its line where the bench lists its pages.
class BenchPage : public QWidget {
    Q_OBJECT
public:
    BenchPage(const BenchContext& context, QString name, QString question, QWidget* parent)
        : QWidget(parent), context_(context), name_(std::move(name)), question_(std::move(question))
    {
        setObjectName("page." + name_.toLower());
        setAccessibleName(name_);
    }
    const QString& name() const { return name_; }
    const QString& question() const { return question_; }

    virtual BenchFindings findings() const = 0;
    virtual Remedies remedies() { return {}; } ///< as Bench::remedies()
    /// What is heard on this page; nothing where it has nothing of its own.
    virtual AuditionRequest audition() const { return {}; }
    virtual bool isBusy() const { return false; }

signals:
    void stateChanged();
    void auditionChanged();
    void failed(const QString& message, const QString& remedy);

protected:
    /// The page's column, with the sentence that answers its question at the top.
    QVBoxLayout* layOut(const char* sentenceName, QLabel*& sentence)
    {
        auto* column = new QVBoxLayout(this);
        column->setContentsMargins(0, 0, 0, 0);
        column->setSpacing(6);
        sentence = new QLabel(this);
        sentence->setObjectName(sentenceName);
        sentence->setFont(Theme::instance().text(TextSize::Reading, true));
        sentence->setWordWrap(true);
        column->addWidget(sentence);
        return column;
    }
    static QHBoxLayout* addRow(QVBoxLayout* column, int spacing = 4)
    {
        auto* row = new QHBoxLayout;
        row->setSpacing(spacing);
        column->addLayout(row);
        return row;
    }
    template<typename Slot>
    QPushButton* addButton(QHBoxLayout* row, const QString& text, const char* name, const QString& about, Slot slot)
    {
        auto* b = named(new QPushButton(text, this), name, about);
        connect(b, &QPushButton::clicked, this, slot);
        row->addWidget(b);
        return b;
    }
    void tellFailure(const core::Error& error)
    {
        emit failed(QString::fromStdString(error.message), QString::fromStdString(error.remedy));
    }
    SessionModel& session() const { return context_.session; }
    Audition& audition_() const { return context_.audition; }
    Capture& capture() const { return context_.capture; }

private:
    BenchContext context_;
    QString name_, question_;
};

} // namespace gristle::app
