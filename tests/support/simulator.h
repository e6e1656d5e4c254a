#pragma once

#include "core/rig/circuit/netlist.h"

#include <QFile>
#include <QProcess>
#include <QStandardPaths>
#include <QTemporaryDir>
#include <functional>
#include <span>
#include <vector>

namespace gristle::test {

inline bool hasSimulator() { return !QStandardPaths::findExecutable("ngspice").isEmpty(); }

/// A signal as points for the simulator, `stepS` apart.
inline std::string pointsOf(std::span<const double> volts, double stepS)
{
    QByteArray out = "PWL(";
    for (std::size_t i = 0; i < volts.size(); ++i) {
        if (i % 8 == 7) out += "\n+ ";
        out += QByteArray::number(double(i) * stepS, 'g', 12) + " " + QByteArray::number(volts[i], 'g', 12) + " ";
    }
    return out.toStdString() + ")";
}

/// What a circuit in the simulator's language has at `out`, by Debian's circuit simulator, every `stepS` from 0 on,
/// less its voltage at rest; empty where it gave none. @param circuit  without analysis lines
inline std::vector<double> simulate(const QByteArray& text, double seconds, double stepS)
{
    QTemporaryDir dir;
    QFile circuit(dir.filePath("circuit.cir"));
    if (!circuit.open(QIODevice::WriteOnly)) return {};
    circuit.write(text);
    const QByteArray step = QByteArray::number(stepS), file = dir.filePath("out.txt").toUtf8();
    circuit.write(".options reltol=1e-6 abstol=1e-10 vntol=1e-7 method=trap\n.control\ntran " + step + " " +
                  QByteArray::number(seconds) + " 0 " + step +
                  "\nlinearize v(out)\nset wr_singlescale\nset numdgt=12\nwrdata " + file + " v(out)\n.endc\n.end\n");
    circuit.close();
    QProcess run;
    run.start("ngspice", {"-b", circuit.fileName()});
    if (!run.waitForFinished(240000) || run.readAllStandardError().contains("aborted")) return {};
    QFile answer(QString::fromUtf8(file));
    std::vector<double> out;
    if (!answer.open(QIODevice::ReadOnly)) return out;
    while (!answer.atEnd()) {
        double at = 0.0, v = 0.0;
        if (std::sscanf(answer.readLine().constData(), "%lf %lf", &at, &v) == 2) out.push_back(v);
    }
    for (std::size_t i = out.size(); i-- > 0;) out[i] -= out[0];
    return out;
}

inline std::vector<double> simulate(const core::Netlist& netlist, const std::string& input, double seconds,
                                    double stepS)
{
    return simulate(QByteArray::fromStdString(core::spiceText(netlist, "Gristle", input)), seconds, stepS);
}

/// Between two steps, by a cubic through four of them.
inline double valueAt(std::span<const double> x, double at)
{
    const auto i = std::size_t(at);
    if (i + 2 >= x.size()) return x.back();
    if (i == 0) return x[0] + (x[1] - x[0]) * at;
    const double t = at - double(i), a = x[i - 1], b = x[i], c = x[i + 1], d = x[i + 2];
    return b + t * ((c - a / 3.0 - b / 2.0 - d / 6.0) + t * ((a + c) / 2.0 - b + t * ((d - a) / 6.0 + (b - c) / 2.0)));
}

} // namespace gristle::test
