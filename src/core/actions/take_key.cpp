#include "core/actions/take_key.h"

#include "core/mix/render/sound_key.h"
#include "core/units/content_key.h"

namespace gristle::core {

std::string takeKey(const Song& song, const LayerRecipe& dry, const Take* take)
{
    ContentKey key;
    key.add(soundKey(dry));
    key.add(song.tempoBpm);
    key.add(song.meter);
    key.add(song.tempos.size());
    for (const TempoChange& t : song.tempos) key.add(t.quarter), key.add(t.bpm);
    for (const MeterChange& m : song.meters) key.add(m.bar), key.add(m.meter);
    key.add(song.tuning);
    key.add(song.referenceHz);
    if (take) {
        key.add(take->playing.capo);
        for (const double s : {take->atS, take->spanFromS, take->spanToS}) key.add(s);
    }
    return key.text();
}

} // namespace gristle::core
