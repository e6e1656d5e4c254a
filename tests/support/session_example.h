#pragma once

#include "core/session/session_document.h"

namespace gristle::test {

/// A session with one song, part and layer, and two takes that are not on disk.
inline core::SessionDocument sessionExample()
{
    core::SessionDocument d;
    d.name = "a session";
    d.sampleRateHz = 48000;
    d.law = core::PanLaw::Minus4_5;
    core::Take take;
    take.file = "audio/one.wav";
    take.frames = 1234;
    take.sampleRateHz = 44100;
    take.hash = "00ff";
    core::Layer layer;
    layer.name = "Left 1";
    layer.place = -100.0;
    layer.gainDb = 1.5;
    layer.earlierMs = 0.614;
    layer.isInverted = true;
    take.atS = -0.5769;
    take.playing = {"a hard pick", "at the nut", 2, "2026-11-01"};
    layer.takes = {take, take};
    layer.takes[1].spanFromS = 2.0, layer.takes[1].spanToS = 4.0;
    layer.chosen = 1;
    layer.pieces = {{0.0, 0, 0.0, 0.0, 10.0}, {2.25, 1, -14.5, 3.5, 6.0}};
    layer.keptPair = "0123456789abcdef";
    layer.bus = "left", layer.sends = {{"room", -12.5}};
    core::Layer drums;
    drums.name = "Drums";
    drums.role = core::LayerRole::Backing, drums.source = "drums";
    drums.takes = {take};
    drums.takes[0].channels = 2, drums.takes[0].isStereo = true;
    d.songs = {{"Song", 138.0, "6/8", "drop D", {{"Rhythm", {layer}}, {"Band", {drums}}}}};
    d.songs[0].sections = {{"verse", 0.0}, {"chorus", 24.5}};
    d.songs[0].buses = {{"left", "rigs/glue.v1.json", -1.5, "", {{"room", -20.0}}}, {"room", "", 0.0, "", {}}};
    d.songs[0].rig = "rigs/last.v1.json", d.songs[0].gainDb = -2.0, d.songs[0].stampS = 3600.0;
    d.songs[0].tempos = {{16.0, 90.5}};
    d.songs[0].meters = {{5, "3/4"}};
    d.songs[0].referenceHz = 442.0;
    d.songs[0].parts[0].playing.pick = "fingers";
    d.doubleStyles = {{"usual", {1.5, 12.0, 28.0}}, {"gallop", {1.0, 8.0, 16.0}}};
    d.songs[0].parts[0].doubleStyle = "gallop";
    return d;
}

} // namespace gristle::test
