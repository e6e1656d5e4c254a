#include "app/theme/house_style.h"

#include "app/theme/theme.h"

#include <QPainter>
#include <QStyleFactory>

namespace gristle::app {

namespace {

constexpr int kSize = 32; // drawn at twice the size that is shown

/// Thin lines on nothing, in a square of 16; empty where the house has no picture for it.
QPixmap drawn(QStyle::StandardPixmap which)
{
    QPixmap out(kSize, kSize);
    out.fill(Qt::transparent);
    QPainter p(&out);
    p.setRenderHint(QPainter::Antialiasing);
    p.scale(kSize / 16.0, kSize / 16.0);
    p.setPen(QPen(ink(Token::Ink2), 1.2, Qt::SolidLine, Qt::RoundCap, Qt::RoundJoin));
    const auto stroke = [&](std::initializer_list<QPointF> points) {
        p.drawPolyline(QPolygonF(QList<QPointF>(points)));
    };
    const auto folder = [&] { stroke({{2, 13}, {2, 3.5}, {6, 3.5}, {7.5, 5.5}, {14, 5.5}, {14, 13}, {2, 13}}); };
    switch (which) {
    case QStyle::SP_DirIcon:
    case QStyle::SP_DirClosedIcon:
    case QStyle::SP_DirOpenIcon:
    case QStyle::SP_DirLinkIcon:
    case QStyle::SP_DirLinkOpenIcon: folder(); break;
    case QStyle::SP_FileDialogNewFolder:
        folder();
        stroke({{8, 7.5}, {8, 11.5}});
        stroke({{6, 9.5}, {10, 9.5}});
        break;
    case QStyle::SP_FileIcon:
    case QStyle::SP_FileLinkIcon: stroke({{4, 2}, {9.5, 2}, {12.5, 5}, {12.5, 14}, {4, 14}, {4, 2}}); break;
    case QStyle::SP_FileDialogBack:
    case QStyle::SP_ArrowBack:
    case QStyle::SP_ArrowLeft: stroke({{10, 3}, {5, 8}, {10, 13}}); break;
    case QStyle::SP_ArrowForward:
    case QStyle::SP_ArrowRight: stroke({{6, 3}, {11, 8}, {6, 13}}); break;
    case QStyle::SP_FileDialogToParent:
    case QStyle::SP_ArrowUp:
        stroke({{3, 8}, {8, 3}, {13, 8}});
        stroke({{8, 3}, {8, 13}});
        break;
    case QStyle::SP_FileDialogListView:
        for (const double y : {4.0, 8.0, 12.0}) stroke({{3, y}, {13, y}});
        break;
    case QStyle::SP_FileDialogDetailedView:
        for (const double y : {4.0, 8.0, 12.0}) stroke({{3, y}, {8, y}}), stroke({{11, y}, {13, y}});
        break;
    case QStyle::SP_ComputerIcon:
    case QStyle::SP_DesktopIcon:
        stroke({{2, 3}, {14, 3}, {14, 11}, {2, 11}, {2, 3}});
        stroke({{6, 14}, {10, 14}});
        break;
    case QStyle::SP_DriveHDIcon:
    case QStyle::SP_DriveNetIcon:
    case QStyle::SP_DriveCDIcon:
    case QStyle::SP_DriveFDIcon:
        stroke({{2, 5}, {14, 5}, {14, 11}, {2, 11}, {2, 5}});
        stroke({{11, 8}, {12, 8}});
        break;
    case QStyle::SP_DirHomeIcon:
        stroke({{2, 8}, {8, 3}, {14, 8}});
        stroke({{4, 7}, {4, 13}, {12, 13}, {12, 7}});
        break;
    case QStyle::SP_LineEditClearButton:
        stroke({{5, 5}, {11, 11}});
        stroke({{11, 5}, {5, 11}});
        break;
    default: return {};
    }
    p.end();
    out.setDevicePixelRatio(2.0);
    return out;
}

} // namespace

HouseStyle::HouseStyle() : QProxyStyle(QStyleFactory::create("Fusion")) {}

int HouseStyle::styleHint(StyleHint hint, const QStyleOption* option, const QWidget* widget,
                          QStyleHintReturn* returned) const
{
    if (hint == SH_DialogButtonBox_ButtonsHaveIcons) return 0;
    return QProxyStyle::styleHint(hint, option, widget, returned);
}

QIcon HouseStyle::standardIcon(StandardPixmap which, const QStyleOption*, const QWidget*) const
{
    const QPixmap own = drawn(which);
    return own.isNull() ? QIcon() : QIcon(own);
}

QPixmap HouseStyle::standardPixmap(StandardPixmap which, const QStyleOption* option, const QWidget* widget) const
{
    const QPixmap own = drawn(which);
    return own.isNull() ? QProxyStyle::standardPixmap(which, option, widget) : own;
}

} // namespace gristle::app
