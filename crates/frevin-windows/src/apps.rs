//! Apps of the signed-in user.

use windows::Management::Deployment::{DeploymentOptions, PackageManager, RemovalOptions};
use windows::core::HSTRING;

use super::com;
use super::wide::failed;
use frevin_pc::windows::installed::{AppsApi, NamedApp};
use frevin_pc::windows::os_error::OsError;

/// The apps that Windows keeps as packages.
pub(crate) struct Packages;

fn manager() -> Result<PackageManager, OsError> {
    com::begin();
    PackageManager::new().map_err(failed("PackageManager"))
}

/// The full names of the user's packages of a family.
fn full_names(manager: &PackageManager, family: &str) -> windows::core::Result<Vec<HSTRING>> {
    let (this_user, family) = (HSTRING::new(), HSTRING::from(family));
    let found = manager.FindPackagesByUserSecurityIdPackageFamilyName(&this_user, &family)?;
    found.into_iter().map(|package| package.Id()?.FullName()).collect()
}

impl AppsApi for Packages {
    fn is_installed(&self, family: &str) -> Result<bool, OsError> {
        let names = full_names(&manager()?, family).map_err(failed("FindPackagesForUser"))?;
        Ok(!names.is_empty())
    }

    fn is_kept(&self, family: &str) -> Result<bool, OsError> {
        let manager = manager()?;
        let kept = || -> windows::core::Result<bool> {
            for package in manager.FindProvisionedPackages()? {
                if package.Id()?.FamilyName()?.to_string().eq_ignore_ascii_case(family) {
                    return Ok(true);
                }
            }
            Ok(false)
        };
        kept().map_err(failed("FindProvisionedPackages"))
    }

    fn remove(&self, family: &str) -> Result<(), OsError> {
        let manager = manager()?;
        let remove = || -> windows::core::Result<()> {
            for name in full_names(&manager, family)? {
                manager.RemovePackageWithOptionsAsync(&name, RemovalOptions::None)?.join()?;
            }
            Ok(())
        };
        remove().map_err(failed("RemovePackageAsync"))
    }

    fn bring_back(&self, family: &str) -> Result<(), OsError> {
        let manager = manager()?;
        let bring = || -> windows::core::Result<()> {
            let family = HSTRING::from(family);
            let options = DeploymentOptions::None;
            manager
                .RegisterPackageByFamilyNameAndOptionalPackagesAsync(
                    &family, None, options, None, None,
                )?
                .join()?;
            Ok(())
        };
        bring().map_err(failed("RegisterPackageByFamilyName"))
    }

    fn named(&self) -> Result<Vec<NamedApp>, OsError> {
        let manager = manager()?;
        let list = || -> windows::core::Result<Vec<NamedApp>> {
            let mut named = Vec::new();
            for package in manager.FindPackagesByUserSecurityId(&HSTRING::new())? {
                // What other apps are built on is no app of its own.
                if package.IsFramework()? || package.IsResourcePackage().unwrap_or(false) {
                    continue;
                }
                let family = package.Id()?.FamilyName()?.to_string();
                let name = package.DisplayName().map(|name| name.to_string()).unwrap_or_default();
                named.push(NamedApp {
                    name: if name.is_empty() { family.clone() } else { name },
                    family,
                    folder: package.InstalledPath().ok().map(|path| path.to_os_string().into()),
                });
            }
            Ok(named)
        };
        list().map_err(failed("FindPackagesForUser"))
    }

    fn families(&self) -> Result<Vec<String>, OsError> {
        let manager = manager()?;
        let list = || -> windows::core::Result<Vec<String>> {
            let found = manager.FindPackagesByUserSecurityId(&HSTRING::new())?;
            found.into_iter().map(|package| Ok(package.Id()?.FamilyName()?.to_string())).collect()
        };
        list().map_err(failed("FindPackagesForUser"))
    }
}
