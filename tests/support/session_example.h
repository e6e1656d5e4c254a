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
    layer.takes = {take, take};
    layer.chosen = 1;
    d.songs = {{"Song", 138.0, "6/8", "drop D", {{"Rhythm", {layer}}}}};
    return d;
}

} // namespace gristle::test
