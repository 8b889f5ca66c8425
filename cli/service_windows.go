package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/svc"
	"golang.org/x/sys/windows/svc/mgr"
)

// serviceName is the agent's name to the system's service manager, and serviceAccount the account
// that the system has for this service alone.
const (
	serviceName    = "OakBarrel"
	serviceAccount = `NT SERVICE\` + serviceName
	serviceDisplay = "Oak Barrel agent"
)

func (a *app) serviceCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "service",
		Short: "Run the agent as a service of this system",
		Long: `Run the agent as a service of this system. It needs the rights of an administrator.

The service starts with the system, is started again where it ends, and runs as an
account of its own (` + serviceAccount + `), which may read the log of events, and
what is given to it.`,
		Example: `  oakbarrel service install
  oakbarrel service reload`,
	}
	c.AddCommand(a.serviceInstallCommand(), a.serviceRemoveCommand())
	for _, do := range []struct {
		name, short string
		control     func(*mgr.Service) error
	}{
		{"start", "Start the service, and wait until every intake is open", startService},
		{"stop", "Stop the service, and wait until what is held is written down", stopService},
		{"reload", "Have the service read its plan again; one with errors changes nothing", reloadService},
	} {
		c.AddCommand(&cobra.Command{
			Use: do.name, Short: do.short, Args: cobra.NoArgs,
			Example: "  oakbarrel service " + do.name + "\n  oakbarrel service " + do.name + " && oakbarrel status",
			RunE:    func(*cobra.Command, []string) error { return couldNot(withService(do.control)) },
		})
	}
	return c
}

func (a *app) serviceInstallCommand() *cobra.Command {
	var plan, state string
	c := &cobra.Command{
		Use:   "install",
		Short: "Make the agent a service that starts with the system",
		Long: `Make the agent a service that starts with the system. It does not start it now.
The folders of the plan and of the state are given the rights that the service needs, and
nobody else may read them but administrators; they can hold nothing else. What it is to
read besides, such as the logs of programs, has to be given to its account:
  icacls C:\logs /grant "` + serviceAccount + `:(OI)(CI)R"`,
		Example: `  oakbarrel service install
  oakbarrel service install --plan D:\oakbarrel\plan.yaml --state D:\oakbarrel\state`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			for _, path := range []*string{&plan, &state} {
				var err error
				if *path, err = filepath.Abs(*path); err != nil {
					return couldNot(err)
				}
			}
			if err := checkFolders(plan, state); err != nil {
				return couldNot(err)
			}
			if err := installService(plan, state); err != nil {
				return couldNot(err)
			}
			fmt.Fprintf(a.stdout, "the service %s is installed, with the plan %s\n", serviceName, plan)
			if _, err := os.Stat(plan); errors.Is(err, os.ErrNotExist) {
				fmt.Fprintln(a.stdout, "  the plan is not there yet: write it, then oakbarrel plan check, and oakbarrel service start")
			}
			return nil
		},
	}
	c.Flags().StringVar(&plan, "plan", defaultPlan, "file of the plan")
	stateFlag(c, &state)
	return c
}

func (a *app) serviceRemoveCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "remove",
		Short: "Stop the service and take it away; plan and state stay",
		Args:  cobra.NoArgs,
		Example: `  oakbarrel service remove
  oakbarrel service remove && oakbarrel service install`,
		RunE: func(*cobra.Command, []string) error {
			return couldNot(withService(func(s *mgr.Service) error {
				if err := stopService(s); err != nil && !errors.Is(err, windows.ERROR_SERVICE_NOT_ACTIVE) {
					return err
				}
				return s.Delete()
			}))
		},
	}
}

// withService opens the service.
func withService(do func(*mgr.Service) error) error {
	m, err := mgr.Connect()
	if err != nil {
		return fmt.Errorf("the service manager cannot be reached: %w; run this as an administrator", err)
	}
	defer m.Disconnect()
	s, err := m.OpenService(serviceName)
	if err != nil {
		return fmt.Errorf("there is no service %s: %w; oakbarrel service install makes it", serviceName, err)
	}
	defer s.Close()
	return do(s)
}

// Restarts: soon after the first end, later after more; a day without one begins anew.
var restarts = []mgr.RecoveryAction{
	{Type: mgr.ServiceRestart, Delay: 2 * time.Second}, {Type: mgr.ServiceRestart, Delay: 15 * time.Second}, {Type: mgr.ServiceRestart, Delay: time.Minute},
}

func installService(plan, state string) error {
	program, err := os.Executable()
	if err != nil {
		return err
	}
	m, err := mgr.Connect()
	if err != nil {
		return fmt.Errorf("the service manager cannot be reached: %w; run this as an administrator", err)
	}
	defer m.Disconnect()
	s, err := m.CreateService(serviceName, program, mgr.Config{
		StartType: mgr.StartAutomatic, ErrorControl: mgr.ErrorNormal, ServiceStartName: serviceAccount, SidType: windows.SERVICE_SID_TYPE_UNRESTRICTED,
		DisplayName: serviceDisplay, Description: "Collects log records of this host, and keeps or forwards them as its plan says.",
	}, "agent", "--"+asServiceFlag, "--plan", plan, "--state", state)
	if err != nil {
		return fmt.Errorf("the service cannot be made: %w; one that is there is taken away by oakbarrel service remove", err)
	}
	defer s.Close()
	err = errors.Join(s.SetRecoveryActions(restarts, uint32((24*time.Hour).Seconds())), s.SetRecoveryActionsOnNonCrashFailures(true), givePrivileges(s.Handle), giveRights(plan, state))
	if err != nil {
		s.Delete()
	}
	return err
}

func startService(s *mgr.Service) error {
	if err := s.Start(); err != nil {
		return fmt.Errorf("the service does not start: %w", err)
	}
	return awaitService(s, svc.Running)
}

func stopService(s *mgr.Service) error {
	if _, err := s.Control(svc.Stop); err != nil {
		return err
	}
	return awaitService(s, svc.Stopped)
}

func reloadService(s *mgr.Service) error {
	_, err := s.Control(svc.ParamChange)
	return err
}

// awaitService waits until the service is in a state.
func awaitService(s *mgr.Service, want svc.State) error {
	const most = time.Minute
	for until := time.Now().Add(most); ; time.Sleep(200 * time.Millisecond) {
		is, err := s.Query()
		switch {
		case err != nil:
			return err
		case is.State == want:
			return nil
		case is.State == svc.Stopped:
			return fmt.Errorf("the service has ended (%d); why stands in %s of its state folder", is.Win32ExitCode, serviceLogFile)
		case time.Now().After(until):
			return fmt.Errorf("the service is not where it should be after %s; what it does stands in %s of its state folder", most, serviceLogFile)
		}
	}
}
