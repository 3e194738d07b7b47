# Files as a C file of bytes: cmake -DFILES="NAME=PATH;…" -DPREFIX=… -DHEADER=… -DOUT=… -P embed.cmake
# Each becomes PREFIXNAME, with a zero behind it that PREFIXNAME_length does not count.
set(text "/* made by cmake/embed.cmake */\n#include \"${HEADER}\"\n")
foreach(file ${FILES})
  string(REGEX MATCH "^([^=]+)=(.+)$" all "${file}")
  set(name ${PREFIX}${CMAKE_MATCH_1})
  file(READ ${CMAKE_MATCH_2} hex HEX)
  string(REGEX REPLACE "(..)" "0x\\1," bytes "${hex}")
  string(REGEX REPLACE "(................................................................................)" "\\1\n" bytes "${bytes}")
  string(APPEND text "const uint8_t ${name}[] = {\n${bytes}0x00};\nconst size_t ${name}_length = sizeof ${name} - 1;\n")
endforeach()
file(WRITE ${OUT} "${text}")
