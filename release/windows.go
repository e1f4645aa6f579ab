package main

import (
	"bytes"

	"github.com/tc-hib/winres"
	"github.com/tc-hib/winres/version"
)

// manifest is the application manifest: the schemas and settings are those of Microsoft's
// "Application manifests" (longPathAware of 2016, activeCodePage of 2019), the id is Windows 10's.
const manifest = `<?xml version="1.0" encoding="UTF-8" standalone="yes"?>
<assembly xmlns="urn:schemas-microsoft-com:asm.v1" manifestVersion="1.0">
  <assemblyIdentity type="win32" name="jarlid" version="1.0.0.0"/>
  <trustInfo xmlns="urn:schemas-microsoft-com:asm.v3"><security><requestedPrivileges>
    <requestedExecutionLevel level="asInvoker" uiAccess="false"/>
  </requestedPrivileges></security></trustInfo>
  <compatibility xmlns="urn:schemas-microsoft-com:compatibility.v1"><application>
    <supportedOS Id="{8e0f7a12-bfb3-4fe8-b9a5-48fd50a15a9a}"/>
  </application></compatibility>
  <application xmlns="urn:schemas-microsoft-com:asm.v3"><windowsSettings>
    <longPathAware xmlns="http://schemas.microsoft.com/SMI/2016/WindowsSettings">true</longPathAware>
    <activeCodePage xmlns="http://schemas.microsoft.com/SMI/2019/WindowsSettings">UTF-8</activeCodePage>
  </windowsSettings></application>
</assembly>
`

// resources puts into a program for Windows what its Explorer shows of it, and the manifest that
// lets it have paths over 260 characters and texts in UTF-8.
func resources(program []byte, v string) ([]byte, error) {
	rs := winres.ResourceSet{}
	if err := rs.Set(winres.RT_MANIFEST, winres.ID(1), winres.LCIDDefault, []byte(manifest)); err != nil {
		return nil, err
	}
	info := version.Info{}
	info.SetFileVersion(v)
	info.SetProductVersion(v)
	for key, text := range map[string]string{
		version.ProductName:      "Jar Lid",
		version.FileDescription:  "Jar Lid: custom firmware on unlocked phones",
		version.OriginalFilename: "jarlid.exe",
		version.ProductVersion:   v,
		version.FileVersion:      v,
	} {
		if err := info.Set(version.LangDefault, key, text); err != nil {
			return nil, err
		}
	}
	rs.SetVersionInfo(info)
	var out bytes.Buffer
	if err := rs.WriteToEXE(&out, bytes.NewReader(program)); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}
