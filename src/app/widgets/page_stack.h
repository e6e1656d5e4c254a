#pragma once

#include <QStackedWidget>

namespace gristle::app {

/// Pages over each other that take the room they are given. What is around asks none of them how high it would be at a
/// width: with stacks in stacks and texts that wrap, that question is asked of all pages again and again, for most of a
/// second.
class PageStack : public QStackedWidget {
public:
    using QStackedWidget::QStackedWidget;
    bool hasHeightForWidth() const override { return false; }
};

} // namespace gristle::app
