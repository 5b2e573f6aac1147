#include "look/theme.h"

#include <QApplication>
#include <QFontDatabase>
#include <QPalette>
#include <QWidget>

#include <cmath>
#include <utility>

namespace mt::app {
namespace {

const Theme kLight{QColor("#F4EFE2"),
                   QColor("#FBF8F0"),
                   QColor("#D9CFB8"),
                   QColor("#2B2A27"),
                   QColor("#6F6A5E"),
                   QColor("#6F8C52"),
                   QColor("#A9855B"),
                   QColor("#B0694C"),
                   QColor("#3B7A99"),
                   QColor("#86689B"),
                   QColor("#E2502B"),
                   QColor("#E3D8BC"),
                   false};
const Theme kNight{QColor("#1D2124"),
                   QColor("#24292D"),
                   QColor("#3A4147"),
                   QColor("#E9E2D2"),
                   QColor("#A39C8D"),
                   QColor("#8FAE6E"),
                   QColor("#B99A72"),
                   QColor("#CE8465"),
                   QColor("#6FB0CF"),
                   QColor("#B293C7"),
                   QColor("#FF7A52"),
                   QColor("#3D4238"),
                   true};
const Theme* current = &kLight;

QString style_sheet(const Theme& t) {
    return QStringLiteral(
               "QMainWindow, QDialog { background: %1; }"
               "QToolTip { background: %2; color: %4; border: 1px solid %3; padding: 4px; }"
               "QMenuBar { background: %1; color: %4; } QMenuBar::item { padding: 6px 12px; background: transparent; }"
               "QMenuBar::item:selected, QMenu::item:selected { background: %6; color: %4; }"
               "QMenu { background: %2; color: %4; border: 1px solid %3; } QMenu::item { padding: 5px 28px 5px 20px; }"
               "QMenu::item:disabled { color: %5; } QMenu::separator { height: 1px; background: %3; margin: 4px 8px; }"
               "QToolBar { background: %1; border: 0; border-bottom: 1px solid %3; spacing: 6px; padding: 5px 10px; }"
               "QToolButton, QPushButton { background: %2; color: %4; border: 1px solid %3; border-radius: 4px; "
               "padding: 4px 12px; }"
               "QToolButton:hover, QPushButton:hover { border-color: %5; } QToolButton:disabled, QPushButton:disabled "
               "{ color: %3; }"
               "QToolButton::menu-indicator, QPushButton::menu-indicator { image: url(:/arrow-%9.svg); width: 9px; height: 6px; "
               "subcontrol-origin: border; subcontrol-position: center right; right: 5px; } "
               "QToolButton[popupMode=\"2\"] { padding-right: 20px; } "
               "QToolButton:checked { background: %4; color: %2; border-color: %4; }"
               "QLineEdit { background: %2; color: %4; border: 1px solid %3; border-radius: 4px; padding: 4px 8px; "
               "selection-background-color: %7; }"
               "QAbstractSpinBox { min-height: 23px; }"
               "QComboBox { background: %2; color: %4; border: 1px solid %3; border-radius: 4px; padding: 1px 2px 1px "
               "8px; "
               "min-height: 21px; } QComboBox:hover { border-color: %5; } QComboBox:focus { border-color: %7; } "
               "QComboBox:disabled { color: %3; }"
               "QComboBox::drop-down { border: 0; width: 20px; } QComboBox::down-arrow { image: url(:/arrow-%9.svg); "
               "width: 10px; height: 6px; }"
               "QComboBox QAbstractItemView { background: %2; color: %4; border: 1px solid %3; outline: 0; "
               "selection-background-color: %6; selection-color: %4; }"
               "QComboBox QLineEdit { border: 0; padding: 0; background: transparent; }"
               "QTabBar { background: %1; } QTabBar::tab { background: transparent; color: %5; padding: 5px 14px; "
               "border: 0; border-bottom: 2px solid transparent; }"
               "QTabBar QToolButton { padding: 0; }"
               "QTabBar::tab:selected { color: %4; border-bottom: 2px solid %4; font-weight: bold; }"
               "QTabWidget::pane { border: 0; border-top: 1px solid %3; }"
               "QSplitter::handle { background: %3; } QSplitter::handle:horizontal { width: 1px; } "
               "QSplitter::handle:vertical { height: 1px; }"
               "QTableView { background: %2; color: %4; gridline-color: %3; border: 0; selection-background-color: %6; "
               "selection-color: %4; alternate-background-color: %1; }"
               "QHeaderView { background: %1; } QHeaderView::section { background: %1; color: %5; border: 0; "
               "border-bottom: 1px solid %3; padding: 4px 6px; }"
               "QListView { background: %1; border: 0; outline: 0; }"
               "QScrollBar:vertical { background: %1; width: 12px; margin: 0; } QScrollBar:horizontal { background: "
               "%1; height: 12px; margin: 0; }"
               "QScrollBar::handle { background: %3; border-radius: 4px; min-height: 28px; min-width: 28px; margin: "
               "2px; } QScrollBar::handle:hover { background: %5; }"
               "QScrollBar::add-line, QScrollBar::sub-line { width: 0; height: 0; } QScrollBar::add-page, "
               "QScrollBar::sub-page { background: transparent; } QAbstractScrollArea::corner { background: %1; "
               "border: 0; "
               "}"
               "QProgressBar { background: %2; border: 1px solid %3; border-radius: 3px; height: 8px; text-align: "
               "center; } QProgressBar::chunk { background: %8; }"
               "QLabel { color: %4; }")
        .arg(t.window.name(), t.panel.name(), t.rule.name(), t.text.name(), t.second.name(), t.selected.name(),
             t.measure.name(), t.land.name(), t.night ? "night" : "light");
}

QString first_family(const QStringList& wished) {
    const QStringList have = QFontDatabase::families();
    for (const QString& w : wished)
        if (have.contains(w)) return w;
    return QFontDatabase::systemFont(QFontDatabase::GeneralFont).family();
}

QFont sized(const QString& family, int pixels, bool bold) {
    QFont font(family);
    // Pixels at the usual 96 dpi text size; follows the system's text scale.
    const double scale = qApp == nullptr ? 1.0 : std::max(1.0, qApp->property("mtTextScale").toDouble());
    font.setPixelSize(static_cast<int>(pixels * scale + 0.5));
    font.setBold(bold);
    // Unshaped, or the typeface makes 0x2000 0×2000; scripts that cannot do without are shaped all the same.
    font.setStyleStrategy(QFont::PreferNoShaping);
    return font;
}

}  // namespace

const Theme& theme() { return *current; }

void apply_theme(bool night) {
    current = night ? &kNight : &kLight;
    QPalette p;
    using P = QPalette;
    const std::pair<P::ColorRole, QColor> roles[] = {
        {P::Window, current->window},        {P::WindowText, current->text},    {P::Base, current->panel},
        {P::AlternateBase, current->window}, {P::Text, current->text},          {P::Button, current->panel},
        {P::ButtonText, current->text},      {P::Highlight, current->selected}, {P::HighlightedText, current->text},
        {P::ToolTipBase, current->panel},    {P::ToolTipText, current->text},   {P::PlaceholderText, current->second},
        {P::Link, current->measure},
    };
    for (const auto& [role, colour] : roles) p.setColor(role, colour);
    const QString sheet = style_sheet(*current);
    const QFont font = text_font(12);
    if (qApp->styleSheet() == sheet && qApp->font() == font && qApp->palette() == p) return;
    qApp->setPalette(p);
    qApp->setFont(font);
    qApp->setStyleSheet(sheet);
}

void set_style(QWidget& widget, const QString& sheet) {
    if (widget.styleSheet() != sheet) widget.setStyleSheet(sheet);
}

QFont text_font(int pixels, bool bold) {
    static const QString family =
        first_family({QStringLiteral("Inter"), QStringLiteral("Noto Sans"), QStringLiteral("DejaVu Sans")});
    return sized(family, pixels, bold);
}

QFont fixed_font(int pixels, bool bold) {
    static const QString family = first_family(
        {QStringLiteral("DejaVu Sans Mono"), QFontDatabase::systemFont(QFontDatabase::FixedFont).family()});
    return sized(family, pixels, bold);
}

QColor mixed(const QColor& over, const QColor& under, double share) {
    const auto mix = [&](int a, int b) { return static_cast<int>(std::lround(a * share + b * (1 - share))); };
    return {mix(over.red(), under.red()), mix(over.green(), under.green()), mix(over.blue(), under.blue())};
}

}  // namespace mt::app
