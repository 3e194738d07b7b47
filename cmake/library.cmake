# Sources that an option leaves out: FIRST_none.c stands in the place of FIRST.c and the others then.
function(ws_part sources option first)
  string(REPLACE ".c" "_none.c" instead ${first})
  set(out ${instead})
  if(NOT ${option})
    set(out ${first} ${ARGN})
  endif()
  foreach(name ${out})
    list(FILTER ${sources} EXCLUDE REGEX "/${name}$")
  endforeach()
  set(${sources} ${${sources}} PARENT_SCOPE)
endfunction()

# One set of objects, made into three libraries:
#   NAME         static, as it is built: our tool, examples and tests see its inner parts, too
#   NAME_shared  with a SONAME; only what public headers declare leaves it
#   NAME_whole   one object in which all other names are local, for the static library that is installed
function(ws_library name sources uses packages)
  add_library(${name}_objects OBJECT ${sources})
  set_target_properties(${name}_objects PROPERTIES POSITION_INDEPENDENT_CODE ON)
  target_include_directories(${name}_objects PRIVATE include src .)
  if(uses)
    target_compile_definitions(${name}_objects PRIVATE _GNU_SOURCE _FILE_OFFSET_BITS=64)
  endif()
  target_link_libraries(${name}_objects PRIVATE ${packages})
  foreach(kind STATIC SHARED)
    set(target ${name})
    if(kind STREQUAL "SHARED")
      set(target ${name}_shared)
    endif()
    add_library(${target} ${kind} $<TARGET_OBJECTS:${name}_objects>)
    target_include_directories(${target} PUBLIC $<BUILD_INTERFACE:${PROJECT_SOURCE_DIR}/include> $<INSTALL_INTERFACE:include>)
    target_link_libraries(${target} PRIVATE ${packages})
    add_library(wild_satchel::${target} ALIAS ${target}) # as find_package() names them
    if(uses AND kind STREQUAL "SHARED")
      target_link_libraries(${target} PUBLIC ${uses}_shared)
    elseif(uses)
      target_link_libraries(${target} PUBLIC ${uses})
    endif()
  endforeach()
  set_target_properties(${name}_shared PROPERTIES OUTPUT_NAME ${name} EXPORT_NAME ${name}
    VERSION ${PROJECT_VERSION} SOVERSION ${PROJECT_VERSION_MAJOR}.${PROJECT_VERSION_MINOR})
  target_link_options(${name}_shared PRIVATE LINKER:--no-undefined)
  set(whole ${PROJECT_BINARY_DIR}/whole/lib${name}.a)
  add_custom_command(OUTPUT ${whole}
    COMMAND ${CMAKE_COMMAND} -E make_directory ${PROJECT_BINARY_DIR}/whole
    COMMAND ${CMAKE_LINKER} -r -o ${PROJECT_BINARY_DIR}/whole/${name}.o $<TARGET_OBJECTS:${name}_objects>
    COMMAND ${CMAKE_OBJCOPY} --localize-hidden ${PROJECT_BINARY_DIR}/whole/${name}.o
    COMMAND ${CMAKE_COMMAND} -E rm -f ${whole}
    COMMAND ${CMAKE_AR} rcs ${whole} ${PROJECT_BINARY_DIR}/whole/${name}.o
    DEPENDS ${name}_objects $<TARGET_OBJECTS:${name}_objects> COMMAND_EXPAND_LISTS VERBATIM)
  add_custom_target(${name}_whole DEPENDS ${whole})
endfunction()

# `cmake --build BUILD --target library`, then `cmake --install BUILD`: headers, both kinds of library, the CMake package
# and the pkg-config files.
function(ws_install)
  include(GNUInstallDirs)
  include(CMakePackageConfigHelpers)
  set(where ${CMAKE_INSTALL_LIBDIR}/cmake/wild_satchel)
  file(RELATIVE_PATH to_prefix /at/${CMAKE_INSTALL_LIBDIR}/pkgconfig /at)
  if(WS_SANITIZE OR WS_THREADS OR WS_FUZZ)
    add_custom_target(library)
  else()
    add_custom_target(library ALL)
  endif()
  foreach(name ${ARGN})
    add_dependencies(library ${name}_shared ${name}_whole)
    install(TARGETS ${name}_shared EXPORT wild_satchel
      LIBRARY DESTINATION ${CMAKE_INSTALL_LIBDIR} COMPONENT library NAMELINK_COMPONENT development)
    install(FILES ${PROJECT_BINARY_DIR}/whole/lib${name}.a DESTINATION ${CMAKE_INSTALL_LIBDIR} COMPONENT development)
    configure_file(cmake/${name}.pc.in ${PROJECT_BINARY_DIR}/${name}.pc @ONLY)
    install(FILES ${PROJECT_BINARY_DIR}/${name}.pc DESTINATION ${CMAKE_INSTALL_LIBDIR}/pkgconfig COMPONENT development)
  endforeach()
  install(DIRECTORY include/wild_satchel DESTINATION ${CMAKE_INSTALL_INCLUDEDIR} COMPONENT development)
  install(EXPORT wild_satchel NAMESPACE wild_satchel:: DESTINATION ${where} COMPONENT development)
  configure_package_config_file(cmake/wild_satchelConfig.cmake.in ${PROJECT_BINARY_DIR}/wild_satchelConfig.cmake
    INSTALL_DESTINATION ${where})
  write_basic_package_version_file(${PROJECT_BINARY_DIR}/wild_satchelConfigVersion.cmake COMPATIBILITY SameMinorVersion)
  install(FILES ${PROJECT_BINARY_DIR}/wild_satchelConfig.cmake ${PROJECT_BINARY_DIR}/wild_satchelConfigVersion.cmake
    DESTINATION ${where} COMPONENT development)
endfunction()
