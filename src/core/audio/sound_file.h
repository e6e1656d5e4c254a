#pragma once

#include <cerrno>
#include <sndfile.h>

namespace gristle::core {

/// Brings the head up to what was written and closes the file; 0 or errno. The library tells a head that could not be
/// written only when it is asked for it while the file is open.
inline int closeWhole(SNDFILE* file)
{
    errno = 0;
    sf_command(file, SFC_UPDATE_HEADER_NOW, nullptr, 0);
    const int failure = sf_error(file) != SF_ERR_NO_ERROR ? (errno ? errno : EIO) : 0;
    errno = 0;
    const int closed = sf_close(file);
    if (failure != 0 || closed == 0) return failure;
    return errno ? errno : EIO;
}

} // namespace gristle::core
