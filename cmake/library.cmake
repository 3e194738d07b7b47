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
    target_include_directories(${target} PUBLIC $<BUILD_INTERFACE:${CMAKE_SOURCE_DIR}/include> $<INSTALL_INTERFACE:include>)
    target_link_libraries(${target} PRIVATE ${packages})
    if(uses AND kind STREQUAL "SHARED")
      target_link_libraries(${target} PUBLIC ${uses}_shared)
    elseif(uses)
      target_link_libraries(${target} PUBLIC ${uses})
    endif()
  endforeach()
  set_target_properties(${name}_shared PROPERTIES OUTPUT_NAME ${name} EXPORT_NAME ${name}
    VERSION ${PROJECT_VERSION} SOVERSION ${PROJECT_VERSION_MAJOR}.${PROJECT_VERSION_MINOR})
  target_link_options(${name}_shared PRIVATE LINKER:--no-undefined)
  set(whole ${CMAKE_BINARY_DIR}/whole/lib${name}.a)
  add_custom_command(OUTPUT ${whole}
    COMMAND ${CMAKE_COMMAND} -E make_directory ${CMAKE_BINARY_DIR}/whole
    COMMAND ${CMAKE_LINKER} -r -o ${CMAKE_BINARY_DIR}/whole/${name}.o $<TARGET_OBJECTS:${name}_objects>
    COMMAND ${CMAKE_OBJCOPY} --localize-hidden ${CMAKE_BINARY_DIR}/whole/${name}.o
    COMMAND ${CMAKE_COMMAND} -E rm -f ${whole}
    COMMAND ${CMAKE_AR} rcs ${whole} ${CMAKE_BINARY_DIR}/whole/${name}.o
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
  add_custom_target(library)
  foreach(name ${ARGN})
    add_dependencies(library ${name}_shared ${name}_whole)
    install(TARGETS ${name}_shared EXPORT wild_satchel LIBRARY DESTINATION ${CMAKE_INSTALL_LIBDIR})
    install(FILES ${CMAKE_BINARY_DIR}/whole/lib${name}.a DESTINATION ${CMAKE_INSTALL_LIBDIR})
    configure_file(cmake/${name}.pc.in ${CMAKE_BINARY_DIR}/${name}.pc @ONLY)
    install(FILES ${CMAKE_BINARY_DIR}/${name}.pc DESTINATION ${CMAKE_INSTALL_LIBDIR}/pkgconfig)
  endforeach()
  install(DIRECTORY include/wild_satchel DESTINATION ${CMAKE_INSTALL_INCLUDEDIR})
  install(EXPORT wild_satchel NAMESPACE wild_satchel:: DESTINATION ${where})
  configure_package_config_file(cmake/wild_satchelConfig.cmake.in ${CMAKE_BINARY_DIR}/wild_satchelConfig.cmake
    INSTALL_DESTINATION ${where})
  write_basic_package_version_file(${CMAKE_BINARY_DIR}/wild_satchelConfigVersion.cmake COMPATIBILITY SameMinorVersion)
  install(FILES ${CMAKE_BINARY_DIR}/wild_satchelConfig.cmake ${CMAKE_BINARY_DIR}/wild_satchelConfigVersion.cmake
    DESTINATION ${where})
endfunction()
