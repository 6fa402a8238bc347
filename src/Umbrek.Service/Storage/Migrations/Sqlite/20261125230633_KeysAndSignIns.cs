using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Umbrek.Service.Storage.Migrations.Sqlite
{
    /// <inheritdoc />
    public partial class KeysAndSignIns : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<byte[]>(
                name: "DeviceId",
                table: "SignIns",
                type: "BLOB",
                nullable: true);

            migrationBuilder.AlterColumn<string>(
                name: "Protected",
                table: "Secrets",
                type: "TEXT",
                nullable: true,
                oldClrType: typeof(string),
                oldType: "TEXT");

            migrationBuilder.AlterColumn<byte[]>(
                name: "HostId",
                table: "Secrets",
                type: "BLOB",
                nullable: true,
                oldClrType: typeof(byte[]),
                oldType: "BLOB");

            migrationBuilder.AddColumn<long>(
                name: "ChangedAt",
                table: "Secrets",
                type: "INTEGER",
                nullable: false,
                defaultValue: 0L);

            migrationBuilder.AddColumn<string>(
                name: "ChangedBy",
                table: "Secrets",
                type: "TEXT",
                nullable: false,
                defaultValue: "");

            migrationBuilder.AddColumn<byte[]>(
                name: "GroupId",
                table: "Secrets",
                type: "BLOB",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "Name",
                table: "Secrets",
                type: "TEXT",
                nullable: false,
                defaultValue: "");

            migrationBuilder.AddColumn<string>(
                name: "Note",
                table: "Secrets",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<int>(
                name: "Number",
                table: "Secrets",
                type: "INTEGER",
                nullable: false,
                defaultValue: 0);

            migrationBuilder.AddColumn<string>(
                name: "UserName",
                table: "Secrets",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<long>(
                name: "Version",
                table: "Secrets",
                type: "INTEGER",
                nullable: false,
                defaultValue: 0L);

            migrationBuilder.AddColumn<bool>(
                name: "UsesVault",
                table: "Jobs",
                type: "INTEGER",
                nullable: false,
                defaultValue: false);

            migrationBuilder.CreateTable(
                name: "Devices",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    TechnicianId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Sha256 = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Device = table.Column<string>(type: "TEXT", nullable: false),
                    Address = table.Column<string>(type: "TEXT", nullable: true),
                    FirstSeenAt = table.Column<long>(type: "INTEGER", nullable: false),
                    LastSeenAt = table.Column<long>(type: "INTEGER", nullable: false),
                    Confirmed = table.Column<bool>(type: "INTEGER", nullable: false),
                    FactorUntil = table.Column<long>(type: "INTEGER", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Devices", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Devices_AspNetUsers_TechnicianId",
                        column: x => x.TechnicianId,
                        principalTable: "AspNetUsers",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "KeyRotations",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Selection = table.Column<string>(type: "TEXT", nullable: false),
                    EndSessions = table.Column<bool>(type: "INTEGER", nullable: false),
                    IsOver = table.Column<bool>(type: "INTEGER", nullable: false),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    CreatedById = table.Column<byte[]>(type: "BLOB", nullable: false),
                    CreatedBy = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_KeyRotations", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "Passkeys",
                columns: table => new
                {
                    CredentialId = table.Column<byte[]>(type: "BLOB", maxLength: 1024, nullable: false),
                    UserId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Data = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Passkeys", x => x.CredentialId);
                    table.ForeignKey(
                        name: "FK_Passkeys_AspNetUsers_UserId",
                        column: x => x.UserId,
                        principalTable: "AspNetUsers",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "Sessions",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    TechnicianId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Technician = table.Column<string>(type: "TEXT", nullable: false),
                    Address = table.Column<string>(type: "TEXT", nullable: true),
                    Reason = table.Column<string>(type: "TEXT", nullable: true),
                    OpenedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    EndedAt = table.Column<long>(type: "INTEGER", nullable: true),
                    EndReason = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Sessions", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Sessions_Hosts_HostId",
                        column: x => x.HostId,
                        principalTable: "Hosts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "VaultKeys",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Protected = table.Column<string>(type: "TEXT", nullable: false),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_VaultKeys", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "KeyRotationHosts",
                columns: table => new
                {
                    RotationId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    State = table.Column<int>(type: "INTEGER", nullable: false),
                    Reason = table.Column<string>(type: "TEXT", nullable: true),
                    At = table.Column<long>(type: "INTEGER", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_KeyRotationHosts", x => new { x.RotationId, x.HostId });
                    table.ForeignKey(
                        name: "FK_KeyRotationHosts_KeyRotations_RotationId",
                        column: x => x.RotationId,
                        principalTable: "KeyRotations",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "SecretTexts",
                columns: table => new
                {
                    SecretId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Number = table.Column<int>(type: "INTEGER", nullable: false),
                    KeyId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Cipher = table.Column<byte[]>(type: "BLOB", nullable: false),
                    IsProposed = table.Column<bool>(type: "INTEGER", nullable: false),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    CreatedBy = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_SecretTexts", x => new { x.SecretId, x.Number });
                    table.ForeignKey(
                        name: "FK_SecretTexts_Secrets_SecretId",
                        column: x => x.SecretId,
                        principalTable: "Secrets",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_SecretTexts_VaultKeys_KeyId",
                        column: x => x.KeyId,
                        principalTable: "VaultKeys",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Restrict);
                });

            migrationBuilder.CreateIndex(
                name: "IX_Secrets_GroupId",
                table: "Secrets",
                column: "GroupId");

            migrationBuilder.CreateIndex(
                name: "IX_Devices_TechnicianId_Sha256",
                table: "Devices",
                columns: new[] { "TechnicianId", "Sha256" },
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_KeyRotationHosts_HostId_State",
                table: "KeyRotationHosts",
                columns: new[] { "HostId", "State" });

            migrationBuilder.CreateIndex(
                name: "IX_KeyRotations_IsOver",
                table: "KeyRotations",
                column: "IsOver");

            migrationBuilder.CreateIndex(
                name: "IX_Passkeys_UserId",
                table: "Passkeys",
                column: "UserId");

            migrationBuilder.CreateIndex(
                name: "IX_SecretTexts_KeyId",
                table: "SecretTexts",
                column: "KeyId");

            migrationBuilder.CreateIndex(
                name: "IX_Sessions_EndedAt",
                table: "Sessions",
                column: "EndedAt");

            migrationBuilder.CreateIndex(
                name: "IX_Sessions_HostId_OpenedAt",
                table: "Sessions",
                columns: new[] { "HostId", "OpenedAt" });

            migrationBuilder.AddForeignKey(
                name: "FK_Secrets_Groups_GroupId",
                table: "Secrets",
                column: "GroupId",
                principalTable: "Groups",
                principalColumn: "Id",
                onDelete: ReferentialAction.Restrict);
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropForeignKey(
                name: "FK_Secrets_Groups_GroupId",
                table: "Secrets");

            migrationBuilder.DropTable(
                name: "Devices");

            migrationBuilder.DropTable(
                name: "KeyRotationHosts");

            migrationBuilder.DropTable(
                name: "Passkeys");

            migrationBuilder.DropTable(
                name: "SecretTexts");

            migrationBuilder.DropTable(
                name: "Sessions");

            migrationBuilder.DropTable(
                name: "KeyRotations");

            migrationBuilder.DropTable(
                name: "VaultKeys");

            migrationBuilder.DropIndex(
                name: "IX_Secrets_GroupId",
                table: "Secrets");

            migrationBuilder.DropColumn(
                name: "DeviceId",
                table: "SignIns");

            migrationBuilder.DropColumn(
                name: "ChangedAt",
                table: "Secrets");

            migrationBuilder.DropColumn(
                name: "ChangedBy",
                table: "Secrets");

            migrationBuilder.DropColumn(
                name: "GroupId",
                table: "Secrets");

            migrationBuilder.DropColumn(
                name: "Name",
                table: "Secrets");

            migrationBuilder.DropColumn(
                name: "Note",
                table: "Secrets");

            migrationBuilder.DropColumn(
                name: "Number",
                table: "Secrets");

            migrationBuilder.DropColumn(
                name: "UserName",
                table: "Secrets");

            migrationBuilder.DropColumn(
                name: "Version",
                table: "Secrets");

            migrationBuilder.DropColumn(
                name: "UsesVault",
                table: "Jobs");

            migrationBuilder.AlterColumn<string>(
                name: "Protected",
                table: "Secrets",
                type: "TEXT",
                nullable: false,
                defaultValue: "",
                oldClrType: typeof(string),
                oldType: "TEXT",
                oldNullable: true);

            migrationBuilder.AlterColumn<byte[]>(
                name: "HostId",
                table: "Secrets",
                type: "BLOB",
                nullable: false,
                defaultValue: new byte[0],
                oldClrType: typeof(byte[]),
                oldType: "BLOB",
                oldNullable: true);
        }
    }
}
